#include "model/references.h"

#include <algorithm>
#include <cctype>

#include <fmt/format.h>

#include "base/text.h"
#include "model/modules.h"
#include "model/periods.h"
#include "model/quantity.h"
#include "model/rung_rule.h"

namespace hedgerow {

namespace {

bool uses(const std::string& text, std::string_view parameter) {
    const auto names = parametersIn(text);
    return std::find(names.begin(), names.end(), parameter) != names.end();
}

/// The expressions of a plan, its end apart.
std::vector<std::string*> expressionsOf(Plan& plan) {
    std::vector<std::string*> all{&plan.tolerance, &plan.fixed.step, &plan.fixed.heat, &plan.fixed.control};
    for (auto& [quantity, tolerance] : plan.tolerances) all.push_back(&tolerance);
    all.push_back(&plan.largestJump);
    for (Span& span : plan.spans)
        for (std::string* text : {&span.tolerance, &span.step}) all.push_back(text);
    return all;
}

/// Where an expression stands.
struct Place {
    std::string where;
    const Sheet* sheet = nullptr;  ///< of a part
    int part = 0;
    std::string key;
};

/// The part of a name from outside, "X1.Q1"; nullptr where there is none.
const Part* findPartFromOutside(const Project& project, std::string_view name) {
    const Sheet* sheet = &project.sheets.front();
    for (;;) {
        const std::size_t dot = name.find('.');
        const std::string_view first = name.substr(0, dot);
        const auto found = std::find_if(sheet->parts.begin(), sheet->parts.end(),
                                        [&](const Part& part) { return part.name == first; });
        if (found == sheet->parts.end()) return nullptr;
        if (dot == std::string_view::npos) return &*found;
        const std::string_view module = moduleOf(found->kind);
        const auto inside = std::find_if(project.sheets.begin() + 1, project.sheets.end(),
                                         [&](const Sheet& other) { return other.name == module; });
        if (module.empty() || inside == project.sheets.end()) return nullptr;
        sheet = &*inside;
        name.remove_prefix(dot + 1);
    }
}

/// Every typed expression of a project. `module` tells whose parameters its names mean first: a sheet, or nullptr.
template <class Visit>
void visitExpressions(Project& project, const Catalogue& catalogue, const Visit& visit) {
    for (Sheet& sheet : project.sheets) {
        const bool main = &sheet == &project.sheets.front();
        for (Part& part : sheet.parts)
            for (const auto& [key, text] : std::vector(part.values.all())) {
                const PartKind* kind = catalogue.find(part.kind);
                const ParameterKind* value = kind ? kind->findParameter(key) : nullptr;
                const bool list = value && value->expressions;
                if (value && !list && (value->text || !value->choices.empty())) continue;
                std::string changed;
                for (const auto& [piece, end] : piecesOf(text, list)) {
                    std::string expression = piece;
                    visit(expression, main ? nullptr : &sheet, Place{part.name, &sheet, part.id, key});
                    changed += expression + end;
                }
                if (changed != text) part.values.set(key, changed);
            }
        for (Parameter& parameter : sheet.parameters)
            for (std::string* text : {&parameter.value, &parameter.least, &parameter.most})
                visit(*text, nullptr, Place{"parameter " + parameter.name + " of " + sheet.name, nullptr, 0, {}});
    }
    for (Parameter& parameter : project.parameters)
        for (std::string* text : {&parameter.value, &parameter.least, &parameter.most})
            visit(*text, nullptr, Place{"parameter " + parameter.name, nullptr, 0, {}});
    const auto visitTime = [&](std::string& text, const Place& place) {
        std::string changed;
        for (TimePiece& piece : timePieces(text)) {
            visit(piece.expression, nullptr, place);
            changed += piece.expression + piece.words;
        }
        if (changed != text) text = changed;
    };
    for (Plan& plan : project.plans) {
        const Place place{"plan " + plan.name, nullptr, 0, {}};
        visitTime(plan.end, place);
        for (Span& span : plan.spans)
            for (std::string* text : {&span.until, &span.every, &span.lasting}) visitTime(*text, place);
        for (std::string* text : expressionsOf(plan)) visit(*text, nullptr, place);
    }
    for (Scene& scene : project.scenes)
        for (SceneEvent& event : scene.events) {
            const Place place{"scene " + scene.name, nullptr, 0, {}};
            for (std::string* text : {&event.at, &event.duration}) visitTime(*text, place);
            visit(event.angle, nullptr, place);
            // The value of a part has a dot in its name, and may be a word.
            const std::size_t dot = event.target.rfind('.');
            if (dot == std::string::npos) visit(event.target, nullptr, place);
            const Part* const part = dot == std::string::npos ? nullptr : findPartFromOutside(project, event.target.substr(0, dot));
            const PartKind* const kind = part ? catalogue.find(part->kind) : nullptr;
            const ParameterKind* const value = kind ? kind->findParameter(event.target.substr(dot + 1)) : nullptr;
            if (!value || (!value->text && value->choices.empty())) visit(event.value, nullptr, place);
        }
}

bool has(const std::vector<Parameter>& list, std::string_view name) {
    return std::any_of(list.begin(), list.end(), [name](const Parameter& p) { return p.name == name; });
}

/// Whether a name in an expression of the module (nullptr: outside modules) means the parameter in view.
bool meansInView(const Project& project, const Sheet* module, std::string_view name) {
    const Sheet* seen = project.showsModule() ? &project.sheet() : nullptr;
    return seen ? module == seen : !module || !has(module->parameters, name);
}

}  // namespace

std::vector<std::pair<std::string, std::string>> piecesOf(const std::string& text, bool list) {
    std::vector<std::pair<std::string, std::string>> pieces;
    std::string now;
    for (const char c : text) {
        if (!list || (c != ',' && c != ';' && c != '=')) {
            now += c;
            continue;
        }
        // The name of a constant is no expression.
        if (c == '=')
            pieces.emplace_back("", now + c);
        else
            pieces.emplace_back(now, std::string(1, c));
        now.clear();
    }
    pieces.emplace_back(now, "");
    return pieces;
}

std::vector<ParameterUse> usesOf(const Project& project, const Catalogue& catalogue, std::string_view parameter) {
    std::vector<ParameterUse> found;
    Project copy = project;
    visitExpressions(copy, catalogue, [&](std::string& text, const Sheet* module, const Place& place) {
        if (!uses(text, parameter) || !meansInView(copy, module, parameter)) return;
        if (!place.sheet) return found.push_back({place.where, 0, 0, {}});
        const auto sheet = static_cast<std::size_t>(place.sheet - copy.sheets.data());
        const auto part = std::find_if(place.sheet->parts.begin(), place.sheet->parts.end(),
                                       [&](const Part& p) { return p.id == place.part; });
        const PartKind* kind = catalogue.find(part->kind);
        const ParameterKind* value = kind ? kind->findParameter(place.key) : nullptr;
        const std::string in = sheet == copy.view.sheet ? "" : place.sheet->name + ": ";
        found.push_back({in + place.where + " " + (value ? value->label : place.key), place.part, sheet, place.key});
    });
    return found;
}

void renameInExpressions(Project& project, const Catalogue& catalogue, std::string_view from, std::string_view to) {
    visitExpressions(project, catalogue, [&](std::string& text, const Sheet* module, const Place&) {
        if (meansInView(project, module, from)) text = withRenamed(text, from, to);
    });
}

std::string withRenamedPrefix(const std::string& text, const std::string& from, const std::string& to) {
    std::string all;
    for (std::size_t at = 0; at < text.size();) {
        const bool begins = at == 0 || !(std::isalnum(static_cast<unsigned char>(text[at - 1])) ||
                                         text[at - 1] == '_' || text[at - 1] == '.');
        if (begins && text.compare(at, from.size(), from) == 0 && text.size() > at + from.size() &&
            text[at + from.size()] == '.') {
            all += to;
            at += from.size();
        } else {
            all += text[at++];
        }
    }
    return all;
}

void renameThing(Project& project, const std::string& from, const std::string& to, bool net) {
    const auto follow = [&](std::string& text) { text = withRenamedPrefix(text, from, to); };
    // From outside, what stands in a module has other names.
    if (!project.showsModule()) {
        for (Lane& lane : project.lanes)
            for (std::string& quantity : lane.quantities) follow(quantity);
        for (LaneSet& set : project.laneSets)
            for (Lane& lane : set.lanes)
                for (std::string& quantity : lane.quantities) follow(quantity);
        const auto followTime = [&](std::string& text) {
            std::string changed;
            for (TimePiece& piece : timePieces(text)) {
                if (piece.part == from) piece.words.replace(piece.words.rfind(from), from.size(), to);
                changed += piece.expression + piece.words;
            }
            if (changed != text) text = changed;
        };
        for (Plan& plan : project.plans) {
            if (!net) followTime(plan.end);
            for (auto& [quantity, tolerance] : plan.tolerances) follow(quantity);
            for (Span& span : plan.spans) {
                for (std::string* text : {&span.keep, &span.when}) follow(*text);
                if (net) continue;
                for (std::string* text : {&span.until, &span.every, &span.lasting}) followTime(*text);
                span.rungs = withRenamedInRungs(span.rungs, from, to);
            }
        }
        follow(project.measured.quantity);
        for (Scene& scene : project.scenes)
            for (SceneEvent& event : scene.events) {
                if (!net) follow(event.target);
                if (net) continue;
                if (event.wave == from) event.wave = to;
                for (std::string* text : {&event.at, &event.duration}) followTime(*text);
            }
    }
    for (Part& part : project.sheet().parts)
        for (const auto& [key, text] : std::vector(part.values.all())) {
            std::string changed = text;
            if (key == "of") follow(changed);
            if (!net && (key == "task" || key == "carrier") && text == from) changed = to;
            if (changed != text) part.values.set(key, changed);
        }
}

std::vector<std::string> undefinedParameters(const Project& project, const Catalogue& catalogue) {
    std::vector<std::string> missing;
    Project copy = project;
    visitExpressions(copy, catalogue, [&](std::string& text, const Sheet* module, const Place&) {
        if (project.showsModule() && module != &copy.sheet()) return;
        for (const std::string& name : parametersIn(text))
            if (!has(project.parameters, name) && !(module && has(module->parameters, name)) &&
                std::find(missing.begin(), missing.end(), name) == missing.end())
                missing.push_back(name);
    });
    return missing;
}

std::set<int> wholeNets(const Sheet& sheet, const NetList& nets, const std::set<int>& items) {
    std::set<int> chosen, ids;
    for (const auto& [wire, net] : nets.netOfWire)
        if (items.contains(wire)) chosen.insert(net);
    for (std::size_t n = 0; n < nets.nets.size(); ++n)
        for (const int label : nets.nets[n].labels)
            if (items.contains(label)) chosen.insert(static_cast<int>(n));
    if (chosen.empty())
        for (const auto& [pin, net] : nets.netOfPin)
            if (items.contains(pin.part)) chosen.insert(net);
    for (const int n : chosen) {
        const Net& net = nets.nets[static_cast<std::size_t>(n)];
        ids.insert(net.wires.begin(), net.wires.end());
        ids.insert(net.labels.begin(), net.labels.end());
    }
    std::erase_if(ids, [&](int id) {
        const auto is = [id](const auto& item) { return item.id == id; };
        return std::none_of(sheet.wires.begin(), sheet.wires.end(), is) &&
               std::none_of(sheet.labels.begin(), sheet.labels.end(), is);
    });
    return ids;
}

std::optional<Point> placeNamed(const Project& project, const Catalogue& catalogue, std::string_view name) {
    const std::size_t dot = name.find('.');
    if (dot == std::string_view::npos) {
        for (const Label& label : project.sheet().labels)
            if (label.net == name) return label.at;
        return {};
    }
    const Part* part = project.findPart(name.substr(0, dot));
    const PartKind* kind = part ? catalogue.find(part->kind) : nullptr;
    const int pin = kind ? kind->findPin(name.substr(dot + 1)) : -1;
    if (pin < 0) return {};
    return part->toSheet(kind->pins[static_cast<std::size_t>(pin)].at);
}

std::set<int> similarParts(const Sheet& sheet, const std::set<int>& items) {
    std::set<std::string> kinds;
    std::set<int> ids;
    for (const Part& part : sheet.parts)
        if (items.contains(part.id)) kinds.insert(part.kind);
    for (const Part& part : sheet.parts)
        if (kinds.contains(part.kind)) ids.insert(part.id);
    return ids;
}

std::vector<Found> findOnSheet(const Project& project, const Catalogue& catalogue, const NetList& nets,
                               std::string_view typed) {
    const std::string wanted = lowerCase(trimmed(typed));
    std::vector<std::pair<int, Found>> ranked;
    const auto consider = [&](Found found, const std::vector<std::string>& texts) {
        int rank = -1;
        if (lowerCase(found.title).starts_with(wanted)) rank = lowerCase(found.title) == wanted ? 0 : 1;
        for (const std::string& text : texts)
            if (rank < 0 && lowerCase(text).find(wanted) != std::string::npos) rank = 2;
        if (rank >= 0) ranked.emplace_back(rank, std::move(found));
    };
    for (const Part& part : project.sheet().parts) {
        const PartKind* kind = catalogue.find(part.kind);
        std::string detail = kind ? kind->title : part.kind;
        std::vector<std::string> texts{part.name, detail};
        for (const auto& [key, text] : part.values.all()) {
            texts.push_back(text);
            const ParameterKind* value = kind ? kind->findParameter(key) : nullptr;
            if (value && value->shownOnSheet) detail += ", " + text;
        }
        if (kind) texts.insert(texts.end(), kind->synonyms.begin(), kind->synonyms.end());
        consider({Found::What::part, {part.id}, part.name, detail}, texts);
    }
    for (const Net& net : nets.nets) {
        if (!net.labelled) continue;
        std::set<int> ids(net.wires.begin(), net.wires.end());
        ids.insert(net.labels.begin(), net.labels.end());
        consider({Found::What::net, ids, net.name,
                  fmt::format("net, {} pin{}", net.pins.size(), net.pins.size() == 1 ? "" : "s")},
                 {net.name});
    }
    std::stable_sort(ranked.begin(), ranked.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<Found> found;
    for (auto& [rank, item] : ranked) found.push_back(std::move(item));
    return found;
}

}  // namespace hedgerow
