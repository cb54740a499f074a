#include "model/text_form.h"

#include <algorithm>
#include <charconv>
#include <map>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "model/edits.h"
#include "model/mover.h"
#include "model/router.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostWiredPins = 5;  ///< of a net that is drawn with wires; larger ones get names
constexpr int mostWireLength = 640, partsPerRow = 6, columnWidth = 128;

std::string quoted(const std::string& text) {
    if (!text.empty() && text.find_first_of(" \t\r\n\"#\\") == std::string::npos) return text;
    std::string all = "\"";
    for (const char c : text)
        all += c == '\n' ? "\\n" : c == '"' || c == '\\' ? std::string("\\") + c : std::string(1, c);
    return all + "\"";
}

/// The id of the only reference of a sheet, or 0.
int onlyReference(const Sheet& sheet) {
    int id = 0;
    for (const Part& part : sheet.parts) {
        if (part.kind != "reference") continue;
        if (id > 0) return 0;
        id = part.id;
    }
    return id;
}

/// A word of a line and where it begins.
struct Word {
    std::string text;
    int column;  ///< 1-based, in characters
};

std::vector<Word> wordsOf(std::string_view line, Error& error) {
    std::vector<Word> found;
    for (std::size_t at = 0; at < line.size();) {
        if (line[at] == ' ' || line[at] == '\t' || line[at] == '\r') {
            ++at;
            continue;
        }
        if (line[at] == '#') break;
        Word word{"", characterCount(line, at) + 1};
        if (line[at] == '"') {
            const std::size_t start = at++;
            while (at < line.size() && line[at] != '"') {
                const bool escaped = line[at] == '\\' && at + 1 < line.size();
                if (escaped) ++at;
                word.text += escaped && line[at] == 'n' ? '\n' : line[at];
                ++at;
            }
            if (at == line.size()) {
                error = {ErrorCode::syntax, "the quotation mark is not closed"};
                error.column = characterCount(line, start) + 1;
                return found;
            }
            ++at;
        } else {
            while (at < line.size() && line[at] != ' ' && line[at] != '\t' && line[at] != '\r') word.text += line[at++];
        }
        found.push_back(std::move(word));
    }
    return found;
}

class LineReader {
public:
    LineReader(const std::vector<Word>& words, int line, const Catalogue& catalogue)
        : words_(words), catalogue_(catalogue) {
        result_.line = line;
    }

    Result<TextLine> read() {
        result_.name = words_[0].text;
        if (!isIdentifier(result_.name))
            return fail(0, fmt::format("'{}' cannot name a part: use letters, digits and _", result_.name));
        if (words_.size() < 2) return fail(0, "the kind of the part is missing");
        result_.kind = catalogue_.find(words_[1].text);
        if (!result_.kind) return fail(1, fmt::format("no kind of part is called '{}'", words_[1].text));
        const auto& pins = result_.kind->pins;
        for (std::size_t i = 0; i < pins.size(); ++i) {
            if (2 + i >= words_.size())
                return fail(words_.size() - 1,
                            fmt::format("the net of pin {} is missing; - leaves it open", pins[i].name));
            const std::string& net = words_[2 + i].text;
            if (net != "-" && !isNet(net))
                return fail(2 + i, fmt::format("'{}' cannot name a net: use letters, digits and _", net));
            result_.nets.push_back(net == "-" ? "" : net);
        }
        for (std::size_t at = 2 + pins.size(); at < words_.size(); at += 2)
            if (auto read = readPair(at); !read) return read.error();
        return result_;
    }

private:
    static bool isNet(const std::string& name) {
        const std::size_t dot = name.find('.');
        if (dot == std::string::npos) return isIdentifier(name) || name == "0";
        return isIdentifier(name.substr(0, dot)) && dot + 1 < name.size();
    }
    Error fail(std::size_t word, std::string message) const {
        Error error{ErrorCode::syntax, std::move(message), result_.name};
        error.line = result_.line;
        error.column = words_[word].column;
        return error;
    }
    Status readPair(std::size_t at) {
        const std::string& key = words_[at].text;
        if (key != "rung" && !result_.kind->findParameter(key))
            return fail(at, fmt::format("{} has no value '{}'", result_.kind->title, key));
        if (at + 1 >= words_.size()) return fail(at, fmt::format("{} needs a value after it", key));
        const std::string& text = words_[at + 1].text;
        if (key != "rung") {
            result_.values.set(key, text);
            return {};
        }
        const auto end = text.data() + text.size();
        if (std::from_chars(text.data(), end, result_.rung).ptr != end || !result_.kind->hasRung(result_.rung))
            return fail(at + 1, fmt::format("{} has no rung {}", result_.kind->title, text));
        return {};
    }

    const std::vector<Word>& words_;
    const Catalogue& catalogue_;
    TextLine result_;
};

}  // namespace

std::string writeText(const Project& project, const Catalogue& catalogue, const NetList& nets) {
    std::string text;
    const int reference = onlyReference(project.sheet());
    const Net* const zero = reference > 0 ? &nets.of({reference, 0}) : nullptr;
    for (const Part& part : project.sheet().parts) {
        const PartKind* kind = catalogue.find(part.kind);
        if (!kind) continue;
        text += part.name + " " + part.kind;
        for (std::size_t pin = 0; pin < kind->pins.size(); ++pin) {
            const Net& net = nets.of({part.id, static_cast<int>(pin)});
            text += " " + (&net == zero && !net.labelled ? "0" : net.labelled || net.pins.size() > 1 ? net.name : "-");
        }
        if (part.rung != 1) text += fmt::format(" rung {}", part.rung);
        for (const auto& [key, value] : part.values.all()) text += " " + key + " " + quoted(value);
        text += "\n";
    }
    return text;
}

TextCircuit readText(std::string_view text, const Catalogue& catalogue) {
    TextCircuit circuit;
    std::map<std::string, int> seen;
    int number = 0;
    while (!text.empty()) {
        const std::size_t end = text.find('\n');
        const std::string_view line = text.substr(0, end);
        text = end == std::string_view::npos ? std::string_view() : text.substr(end + 1);
        ++number;
        Error broken;
        const std::vector<Word> words = wordsOf(line, broken);
        if (!broken.message.empty()) {
            broken.line = number;
            circuit.errors.push_back(broken);
            continue;
        }
        if (words.empty()) continue;
        auto read = LineReader(words, number, catalogue).read();
        if (!read) {
            circuit.errors.push_back(read.error());
            continue;
        }
        const auto [first, fresh] = seen.emplace(read->name, number);
        if (!fresh) {
            Error error{ErrorCode::name, fmt::format("there is another {} in line {}", read->name, first->second),
                        read->name};
            error.line = number;
            error.column = words[0].column;
            circuit.errors.push_back(std::move(error));
            continue;
        }
        circuit.lines.push_back(std::move(*read));
    }
    return circuit;
}

namespace edits {

namespace {

class TextEditor {
public:
    TextEditor(Project& project, const TextCircuit& circuit, const Catalogue& catalogue)
        : project_(project), sheet_(project.sheet()), circuit_(circuit), catalogue_(catalogue) {}

    Status apply() {
        renameWhatMoved();
        removeMissing();
        placeNew();
        setValues();
        orderParts();
        joinNets();
        return {};
    }

private:
    const TextLine* lineOf(const std::string& name) const {
        for (const TextLine& line : circuit_.lines)
            if (line.name == name) return &line;
        return nullptr;
    }

    /// One part that is gone and one of its kind that is new: it was renamed.
    void renameWhatMoved() {
        std::vector<const Part*> gone;
        std::vector<const TextLine*> fresh;
        for (const Part& part : sheet_.parts)
            if (catalogue_.find(part.kind) && !lineOf(part.name)) gone.push_back(&part);
        for (const TextLine& line : circuit_.lines)
            if (!project_.findPart(line.name)) fresh.push_back(&line);
        if (gone.size() == 1 && fresh.size() == 1 && gone[0]->kind == fresh[0]->kind->id)
            (void)renamePart(gone[0]->id, fresh[0]->name).apply(project_);
    }
    void removeMissing() {
        std::erase_if(sheet_.parts, [this](const Part& part) {
            if (!catalogue_.find(part.kind)) return false;  // of a newer version: text cannot say what it is
            const TextLine* line = lineOf(part.name);
            return !line || line->kind->id != part.kind;
        });
    }
    /// Beneath everything that is there, in rows.
    void placeNew() {
        int low = 0, left = 0;
        for (const Part& part : sheet_.parts)
            if (const PartKind* kind = catalogue_.find(part.kind)) low = std::max(low, boxOf(part, *kind).high.y);
        for (const Wire& wire : sheet_.wires)
            for (const Point point : wire.points) low = std::max(low, point.y);
        if (!sheet_.parts.empty()) left = sheet_.parts.front().at.x;
        // Each part in a cell as wide as itself and what is written beside it, each row as high as its highest.
        int x = left, top = snapped(0, low).y + gridStep, bottom = top, inRow = 0;
        for (const TextLine& line : circuit_.lines) {
            if (project_.findPart(line.name)) continue;
            if (inRow++ == partsPerRow) x = left, top = bottom, inRow = 1;
            Part part;
            part.id = project_.newId();
            part.name = line.name;
            part.kind = line.kind->id;
            const auto& [lowest, highest] = line.kind->bounds();
            const int above = std::max(-lowest.y, 32), below = std::max(highest.y, 32);
            part.at = snapped(x + std::max(-lowest.x - 32, 0), top + 32 + above);
            x = snapped(part.at.x + std::max(highest.x - 32, 0) + columnWidth, 0).x;
            bottom = snapped(0, std::max(bottom, part.at.y + below + 32)).y;
            sheet_.parts.push_back(std::move(part));
        }
    }
    void setValues() {
        for (Part& part : sheet_.parts)
            if (const TextLine* line = lineOf(part.name); line && line->kind->id == part.kind) {
                part.rung = line->rung;
                if (part.values == line->values) continue;
                part.values = line->values;
            }
    }
    void orderParts() {
        std::map<std::string, std::size_t> place;
        for (std::size_t i = 0; i < circuit_.lines.size(); ++i) place[circuit_.lines[i].name] = i;
        std::stable_sort(sheet_.parts.begin(), sheet_.parts.end(), [&](const Part& a, const Part& b) {
            const auto at = [&](const Part& p) {
                const auto found = place.find(p.name);
                return found == place.end() ? place.size() : found->second;
            };
            return at(a) < at(b);
        });
    }

    using Pins = std::set<PinRef>;

    /// Which pins each net of the text joins. A net called after a pin is that pin's net.
    std::map<std::string, Pins> wanted() const {
        std::map<std::string, Pins> nets;
        std::map<std::string, std::string> netOfPin;  // of "L1.a"
        for (const TextLine& line : circuit_.lines)
            for (std::size_t i = 0; i < line.nets.size(); ++i)
                if (!line.nets[i].empty()) netOfPin[line.name + "." + line.kind->pins[i].name] = line.nets[i];
        const auto resolved = [&](std::string name) {
            for (int hops = 0; hops < 8 && name.find('.') != std::string::npos; ++hops) {
                const auto next = netOfPin.find(name);
                if (next == netOfPin.end() || next->second == name) break;
                name = next->second;
            }
            return name;
        };
        for (const TextLine& line : circuit_.lines) {
            const Part* part = project_.findPart(line.name);
            for (std::size_t i = 0; part && i < line.nets.size(); ++i)
                if (!line.nets[i].empty()) nets[resolved(line.nets[i])].insert({part->id, static_cast<int>(i)});
        }
        return nets;
    }
    Point placeOf(PinRef pin) const {
        const Part& part = *project_.findPart(pin.part);
        return part.toSheet(catalogue_.find(part.kind)->pins[static_cast<std::size_t>(pin.pin)].at);
    }

    void joinNets() {
        const auto nets = wanted();
        clearWrong(nets);
        for (const bool byWires : {true, false}) {
            const NetList now = findNets(sheet_, catalogue_);
            for (const auto& [name, pins] : nets)
                if (!stands(name, pins, now)) join(name, pins, byWires);
            if (byWires) clearWrong(nets);
        }
    }
    bool stands(const std::string& name, const Pins& pins, const NetList& now) const {
        const Net& net = now.of(*pins.begin());
        return Pins(net.pins.begin(), net.pins.end()) == pins && (!isIdentifier(name) || net.name == name);
    }
    /// Takes away wires and names of nets that join what the text does not, or that the text calls otherwise.
    void clearWrong(const std::map<std::string, Pins>& nets) {
        std::map<PinRef, const std::pair<const std::string, Pins>*> netOf;
        for (const auto& net : nets)
            for (const PinRef& pin : net.second) netOf[pin] = &net;
        std::set<int> wrong;
        for (const Net& net : findNets(sheet_, catalogue_).nets) {
            if (net.pins.empty()) continue;
            const auto found = netOf.find(net.pins.front());
            const bool alone = found == netOf.end() && net.pins.size() == 1 && !net.labelled;
            const bool right = found != netOf.end() &&
                               std::all_of(net.pins.begin(), net.pins.end(),
                                           [&](PinRef pin) { return found->second->second.contains(pin); }) &&
                               (!net.labelled || net.name == found->second->first);
            if (alone || right) continue;
            wrong.insert(net.wires.begin(), net.wires.end());
            wrong.insert(net.labels.begin(), net.labels.end());
        }
        std::erase_if(sheet_.wires, [&](const Wire& wire) { return wrong.contains(wire.id); });
        std::erase_if(sheet_.labels, [&](const Label& label) { return wrong.contains(label.id); });
    }
    void join(const std::string& name, const Pins& pins, bool byWires) {
        const std::vector<PinRef> list(pins.begin(), pins.end());
        bool drawn = byWires && pins.size() <= mostWiredPins;
        for (std::size_t i = 0; drawn && i + 1 < list.size(); ++i) {
            const Point way = placeOf(list[i + 1]) - placeOf(list[i]);
            drawn = std::abs(way.x) + std::abs(way.y) <= mostWireLength;
        }
        if (drawn) {
            for (std::size_t i = 0; i + 1 < list.size(); ++i) {
                const Point from = placeOf(list[i]), to = placeOf(list[i + 1]);
                if (from == to) continue;
                const NetList now = findNets(sheet_, catalogue_);
                if (now.netOfPin.at(list[i]) == now.netOfPin.at(list[i + 1])) continue;
                auto points = Router(sheet_, catalogue_, from, to).route(from, to);
                sheet_.wires.push_back({project_.newId(), std::move(points), ""});
            }
            if (isIdentifier(name)) label(placeOf(list[0]), name);
            return;
        }
        std::string shown = name;
        if (!isIdentifier(shown)) {
            shown = "n_" + name;
            std::replace(shown.begin(), shown.end(), '.', '_');
        }
        for (const PinRef& pin : list) label(placeOf(pin), shown);
    }
    void label(Point at, const std::string& net) {
        for (const Label& known : sheet_.labels)
            if (known.at == at && known.net == net) return;
        sheet_.labels.push_back({project_.newId(), at, net, ""});
    }

    Project& project_;
    Sheet& sheet_;
    const TextCircuit& circuit_;
    const Catalogue& catalogue_;
};

}  // namespace

Edit becomeText(TextCircuit circuit, const Catalogue& catalogue) {
    return {"text",
            [circuit = std::move(circuit), &catalogue](Project& project) -> Status {
                if (!circuit.errors.empty()) return circuit.errors.front();
                return TextEditor(project, circuit, catalogue).apply();
            },
            "text"};
}

}  // namespace edits

}  // namespace hedgerow
