#include "model/module_edits.h"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "base/text.h"
#include "model/edits.h"
#include "model/modules.h"
#include "model/mover.h"
#include "model/nets.h"
#include "model/quantity.h"
#include "model/references.h"
#include "model/rung_rule.h"
#include "model/route.h"
#include "model/router.h"

namespace hedgerow::edits {

namespace {

constexpr int pinDistance = 8 * gridStep;  ///< of a module's pins from what they lead to

/// Of the wires of a net, the pieces that lead from one anchor to another.
std::vector<Wire> piecesBetween(Project& project, const std::vector<const Wire*>& wires,
                                const std::set<Point>& anchors) {
    std::set<Point> ends = anchors;
    for (const Wire* wire : wires) ends.insert(wire->points.front()), ends.insert(wire->points.back());
    std::vector<std::vector<Point>> pieces;
    for (const Wire* wire : wires) {
        std::vector<Point> piece{wire->points.front()};
        for (std::size_t i = 0; i + 1 < wire->points.size(); ++i) {
            const Point from = wire->points[i], to = wire->points[i + 1];
            std::vector<Point> cuts;
            for (const Point end : ends)
                if (liesOn({0, {from, to}, ""}, end) && end != from) cuts.push_back(end);
            std::sort(cuts.begin(), cuts.end(), [from](Point a, Point b) {
                const auto away = [from](Point p) { return std::abs(p.x - from.x) + std::abs(p.y - from.y); };
                return away(a) < away(b);
            });
            for (const Point cut : cuts) {
                piece.push_back(cut);
                pieces.push_back(std::exchange(piece, {cut}));
            }
            if (cuts.empty() || cuts.back() != to) piece.push_back(to);
        }
    }
    for (bool again = true; again;) {
        std::map<Point, int> degree;
        for (const auto& piece : pieces) ++degree[piece.front()], ++degree[piece.back()];
        again = std::erase_if(pieces, [&](const std::vector<Point>& piece) {
                    const auto loose = [&](Point p) { return degree[p] == 1 && !anchors.contains(p); };
                    return loose(piece.front()) || loose(piece.back());
                }) > 0;
    }
    std::vector<Wire> kept;
    for (const auto& piece : pieces)
        if (const auto points = simplified(piece); points.size() > 1) kept.push_back({project.newId(), points, ""});
    return kept;
}

Point nearest(const std::set<Point>& points, Point to) {
    return *std::min_element(points.begin(), points.end(), [to](Point a, Point b) {
        const auto away = [to](Point p) { return std::abs(p.x - to.x) + std::abs(p.y - to.y); };
        return away(a) < away(b);
    });
}

/// Joins two points of a sheet by a wire, or by the name where no wire can go without touching others.
void join(Project& project, Sheet& sheet, const Catalogue& catalogue, Point from, Point to, const std::string& name) {
    if (from == to) return;
    const Router router(sheet, catalogue, boxAround(from, to).low, boxAround(from, to).high);
    const auto points = router.route(from, to);
    if (router.clean(points)) {
        sheet.wires.push_back({project.newId(), points, ""});
        return;
    }
    for (const Point at : {from, to}) sheet.labels.push_back({project.newId(), at, name, ""});
}

/// Quantities of the parts and nets that went into a place get its name before theirs.
void followInto(Project& project, const std::string& place, const std::set<std::string>& names) {
    const std::string outer = prefixInView(project);
    const auto follow = [&](std::string& quantity) {
        if (!quantity.starts_with(outer)) return;
        const std::string rest = quantity.substr(outer.size());
        if (names.contains(rest.substr(0, rest.rfind('.')))) quantity = outer + place + "." + rest;
    };
    for (Lane& lane : project.lanes)
        for (std::string& quantity : lane.quantities) follow(quantity);
    for (Plan& plan : project.plans) {
        for (auto& [quantity, tolerance] : plan.tolerances) follow(quantity);
        for (Span& span : plan.spans)
            for (const std::string& name : names) {
                for (std::string* text : {&span.keep, &span.when})
                    *text = withRenamedPrefix(*text, outer + name, outer + place + "." + name);
                span.rungs = withRenamedInRungs(span.rungs, outer + name, outer + place + "." + name);
            }
    }
}

/// Makes a module of some parts of a sheet.
class ModuleMaker {
public:
    ModuleMaker(Project& project, const std::set<int>& ids, std::string name, const Catalogue& catalogue)
        : project_(project),
          catalogue_(catalogue),
          before_(project.sheet()),
          nets_(findNets(before_, catalogue)),
          ids_(ids) {
        module_.name = std::move(name);
    }

    void make() {
        Sheet& outer = project_.sheet();
        std::erase_if(outer.parts, [&](const Part& p) { return chosen(p.id); });
        for (const Part& part : before_.parts)
            if (chosen(part.id)) takePart(part);
        for (const Net& net : nets_.nets) share(net);
        for (Lead& lead : leads_) addPin(lead);
        const Part place = addPlace();
        project_.sheets.push_back(module_);  // `outer` may not be used from here on
        followInto(project_, place.name, inside_);
        joinPlace(place);
    }

private:
    /// A net that leads out of the module.
    struct Lead {
        std::set<Point> inner, outer;  ///< pins of what goes and of what stays
        std::vector<int> labels;       ///< names that have lost what they stood on
        PinSort sort = PinSort::power;
        bool drivenInside = false;
        std::string name;
    };

    bool chosen(int part) const { return ids_.contains(part); }

    void takePart(const Part& part) {
        const Box box = boxOf(part, *catalogue_.find(part.kind));
        if (module_.parts.empty()) around_ = box;
        around_ = {{std::min(around_.low.x, box.low.x), std::min(around_.low.y, box.low.y)},
                   {std::max(around_.high.x, box.high.x), std::max(around_.high.y, box.high.y)}};
        module_.parts.push_back(part);
        inside_.insert(part.name);
    }

    /// Gives the wires and names of a net to the module, to what stays, or to both.
    void share(const Net& net) {
        Lead lead;
        for (const PinRef& ref : net.pins) {
            const Part& part = *std::find_if(before_.parts.begin(), before_.parts.end(),
                                             [&](const Part& p) { return p.id == ref.part; });
            const PinKind& pin = catalogue_.find(part.kind)->pins[static_cast<std::size_t>(ref.pin)];
            const bool in = chosen(ref.part);
            (in ? lead.inner : lead.outer).insert(part.toSheet(pin.at));
            lead.sort = pin.sort;
            if (in && pin.sort == PinSort::signalOut) lead.drivenInside = true;
            if (in && (lead.name.empty() || part.name + "_" + pin.name < lead.name))
                lead.name = part.name + "_" + pin.name;
        }
        if (lead.inner.empty()) return;
        Sheet& outer = project_.sheet();
        std::vector<const Wire*> wires;
        for (const Wire& wire : before_.wires)
            if (std::find(net.wires.begin(), net.wires.end(), wire.id) != net.wires.end()) wires.push_back(&wire);
        std::erase_if(outer.wires, [&](const Wire& wire) {
            return std::find(net.wires.begin(), net.wires.end(), wire.id) != net.wires.end();
        });
        if (lead.outer.empty()) {
            for (const Wire* wire : wires) module_.wires.push_back(*wire);
            moveLabels(net);
            if (net.labelled) inside_.insert(net.name);
            return;
        }
        if (net.labelled) lead.name = net.name;
        // A name that only stood on what went moves to the place's pin.
        std::vector<Wire> staying = piecesBetween(project_, wires, lead.outer);
        for (const int id : net.labels) {
            const Point at = project_.findLabel(id)->at;
            const auto holds = [at](const Wire& wire) { return liesOn(wire, at); };
            if (!lead.outer.contains(at) && std::none_of(staying.begin(), staying.end(), holds))
                lead.labels.push_back(id);
        }
        addWires(module_, piecesBetween(project_, wires, lead.inner), lead.inner);
        addWires(outer, std::move(staying), lead.outer);
        leads_.push_back(std::move(lead));
    }

    /// Their bends and ends are places to which a new wire may go.
    static void addWires(Sheet& sheet, std::vector<Wire> wires, std::set<Point>& places) {
        for (Wire& wire : wires) {
            places.insert(wire.points.begin(), wire.points.end());
            sheet.wires.push_back(std::move(wire));
        }
    }

    void moveLabels(const Net& net) {
        Sheet& outer = project_.sheet();
        for (const int id : net.labels) {
            module_.labels.push_back(*project_.findLabel(id));
            std::erase_if(outer.labels, [id](const Label& label) { return label.id == id; });
        }
    }

    /// Puts a pin beside what it leads to, on the side where the rest of the net was.
    void addPin(Lead& lead) {
        Point sum{};
        for (const Point at : lead.outer) sum = sum + at;
        const int count = static_cast<int>(lead.outer.size());
        const Point away = snapped(double(sum.x) / count, double(sum.y) / count);
        const Point target = nearest(lead.inner, away);
        const bool left = target.x - around_.low.x <= around_.high.x - target.x;
        std::string side = left ? "left" : "right";
        if (away.x < around_.low.x)
            side = "left";
        else if (away.x > around_.high.x)
            side = "right";
        else if (away.y < around_.low.y)
            side = "top";
        else if (away.y > around_.high.y)
            side = "bottom";
        Part pin;
        pin.name = lead.name;
        pin.kind = kindOf(lead);
        pin.id = project_.newId();
        pin.values.set("side", side);
        if (side == "left") pin.at = {around_.low.x - pinDistance, target.y};
        if (side == "right") pin.at = {around_.high.x + pinDistance, target.y}, pin.flip = true;
        if (side == "top") pin.at = {target.x, around_.low.y - pinDistance}, pin.turn = 1;
        if (side == "bottom") pin.at = {target.x, around_.high.y + pinDistance}, pin.turn = 3;
        pin.at = snapped(pin.at.x, pin.at.y);
        const Point aside = side == "left" || side == "right" ? Point{0, 3 * gridStep} : Point{5 * gridStep, 0};
        const auto taken = [&](const Part& other) { return isModulePin(other) && boxesTouch(other, pin); };
        while (std::any_of(module_.parts.begin(), module_.parts.end(), taken)) pin.at = pin.at + aside;
        makeNameFree(pin.name);
        module_.parts.push_back(pin);
        join(project_, module_, catalogue_, pin.at, target, pin.name);
        lead.name = pin.name;
    }

    bool boxesTouch(const Part& a, const Part& b) const {
        return boxOf(a, *catalogue_.find(a.kind)).overlaps(boxOf(b, *catalogue_.find(b.kind)));
    }

    void makeNameFree(std::string& name) const {
        const auto used = [&](const std::string& tried) {
            return std::any_of(module_.parts.begin(), module_.parts.end(),
                               [&](const Part& p) { return p.name == tried; });
        };
        const std::string base = name;
        for (int n = 2; used(name); ++n) name = base + "_" + std::to_string(n);
    }

    static std::string_view kindOf(const Lead& lead) {
        if (lead.sort == PinSort::power) return powerPinKind;
        return lead.drivenInside ? signalOutKind : signalInKind;
    }

    Part addPlace() {
        const PartKind kind = moduleKind(module_, catalogue_);
        Part place;
        place.name = freeName(project_, kind);
        place.kind = kind.id;
        place.id = project_.newId();
        place.at = snapped((around_.low.x + around_.high.x) / 2.0, (around_.low.y + around_.high.y) / 2.0);
        for (const RungKind& rung : kind.rungs) place.rung = rung.rung;
        project_.sheet().parts.push_back(place);
        return place;
    }

    void joinPlace(const Part& place) {
        const Catalogue all = withModules(catalogue_, project_);
        const PartKind& kind = *all.find(place.kind);
        for (const Lead& lead : leads_) {
            const Point pin = place.toSheet(kind.pins[static_cast<std::size_t>(kind.findPin(lead.name))].at);
            for (const int id : lead.labels) project_.findLabel(id)->at = pin;
            join(project_, project_.sheet(), all, pin, nearest(lead.outer, pin), lead.name);
        }
    }

    Project& project_;
    const Catalogue& catalogue_;
    const Sheet before_;
    const NetList nets_;
    const std::set<int>& ids_;
    Sheet module_;
    Box around_{};
    std::vector<Lead> leads_;
    std::set<std::string> inside_;  ///< names of parts and nets that went into the module
};

Status noSuchModule(const std::string& name) {
    return Error{ErrorCode::name, fmt::format("there is no module called {}", name)};
}

/// A copy of a sheet with items of its own.
Sheet freshCopy(Project& project, const Sheet& sheet) {
    Sheet copy = sheet;
    for (Part& part : copy.parts) part.id = project.newId();
    for (Wire& wire : copy.wires) wire.id = project.newId();
    for (Label& label : copy.labels) label.id = project.newId();
    return copy;
}

Edit onModule(std::string label, std::string module, std::function<Status(Project&, Sheet&)> change,
              std::string mergeKey = {}) {
    return {std::move(label),
            [module = std::move(module), change = std::move(change)](Project& project) -> Status {
                Sheet* sheet = project.findSheet(module);
                if (!sheet || sheet == &project.sheets.front()) return noSuchModule(module);
                return change(project, *sheet);
            },
            std::move(mergeKey)};
}

template <class Visit>
void forEachPlace(Project& project, const std::string& module, Visit visit) {
    for (Sheet& sheet : project.sheets)
        for (Part& part : sheet.parts)
            if (moduleOf(part.kind) == module) visit(part);
}

}  // namespace

Status moduleNameFree(const Project& project, const std::string& name) {
    if (!isIdentifier(name))
        return Error{ErrorCode::name, fmt::format("'{}' cannot name a module: use letters, digits and _", name)};
    if (project.findSheet(name)) return Error{ErrorCode::name, fmt::format("there is a sheet called {} already", name)};
    return {};
}

Edit makeModule(std::set<int> ids, std::string name, const Catalogue& catalogue) {
    return {"make module " + name, [ids = std::move(ids), name, &catalogue](Project& project) -> Status {
                if (auto free = moduleNameFree(project, name); !free) return free;
                bool any = false;
                for (const Part& part : project.sheet().parts) {
                    if (!ids.contains(part.id)) continue;
                    any = true;
                    if (isModulePin(part))
                        return Error{ErrorCode::name,
                                     fmt::format("{} is a pin of this module: it cannot go into another", part.name),
                                     part.name};
                    if (!catalogue.find(part.kind))
                        return Error{ErrorCode::name,
                                     fmt::format("{} is a part that this version does not know", part.name), part.name};
                }
                if (!any) return Error{ErrorCode::name, "choose the parts that are to become a module"};
                ModuleMaker(project, ids, name, catalogue).make();
                return {};
            }};
}

Edit addModule(std::string name) {
    return {"module " + name, [name](Project& project) -> Status {
                if (auto free = moduleNameFree(project, name); !free) return free;
                project.sheets.emplace_back().name = name;
                return {};
            }};
}

Edit renameModule(std::string from, std::string to) {
    return onModule("rename module " + to, from, [from, to](Project& project, Sheet& sheet) -> Status {
        if (from == to) return {};
        if (auto free = moduleNameFree(project, to); !free) return free;
        sheet.name = to;
        forEachPlace(project, from, [&](Part& place) { place.kind = moduleKindId(to); });
        return {};
    });
}

Edit setModuleNote(std::string module, std::string note) {
    return onModule(
        "note of " + module, module,
        [note](Project&, Sheet& sheet) -> Status {
            sheet.note = note;
            return {};
        },
        "note of module " + module);
}

Edit removeModule(std::string module) {
    return onModule("remove module " + module, module, [module](Project& project, Sheet& sheet) -> Status {
        int places = 0;
        forEachPlace(project, module, [&](Part&) { ++places; });
        if (places > 0)
            return Error{ErrorCode::name, fmt::format("{} has {} place{}: delete {} first", module, places,
                                                      places == 1 ? "" : "s", places == 1 ? "it" : "them")};
        const auto at = static_cast<std::size_t>(&sheet - project.sheets.data());
        if (project.view.sheet == at) project.view = {};
        if (project.view.sheet > at) --project.view.sheet;
        project.sheets.erase(project.sheets.begin() + static_cast<std::ptrdiff_t>(at));
        return {};
    });
}

Edit makeOwn(std::string module) {
    return onModule("make " + module + " the project's own", module, [](Project&, Sheet& sheet) -> Status {
        sheet.origin.clear();
        return {};
    });
}

Edit copyForPlace(int place, std::string name) {
    return {"module " + name, [place, name](Project& project) -> Status {
                if (auto free = moduleNameFree(project, name); !free) return free;
                Part* part = project.findPart(place);
                const Sheet* sheet = part ? project.findSheet(moduleOf(part->kind)) : nullptr;
                if (!sheet) return Error{ErrorCode::name, "choose one place of a module"};
                part->kind = moduleKindId(name);
                Sheet copy = freshCopy(project, *sheet);
                copy.name = name;
                copy.origin.clear();
                project.sheets.push_back(std::move(copy));
                return {};
            }};
}

Edit pasteWithModules(Sheet clip, std::vector<Sheet> modules, Point by, const Catalogue& parts, std::set<int>* added) {
    return {"paste", [clip = std::move(clip), modules = std::move(modules), by, &parts, added](Project& project) {
                for (const Sheet& module : modules) takeModule(project, module, modules);
                if (project.showsModule())
                    for (const Part& part : clip.parts)
                        if (wouldContainItself(project, project.sheet().name, moduleOf(part.kind)))
                            return Status(Error{ErrorCode::name,
                                                fmt::format("{} cannot stand inside itself", moduleOf(part.kind))});
                const Catalogue all = withModules(parts, project);
                return paste(clip, by, all, added).apply(project);
            }};
}

Edit keepPart(int part, std::string word) {
    return {
        "keep " + word, [part, word](Project& project) -> Status {
            const Part* found = project.findPart(part);
            if (!found) return {};
            if (!isIdentifier(word))
                return Error{ErrorCode::name, fmt::format("'{}' cannot name a part: use letters, digits and _", word)};
            Part kept = *found;
            kept.id = 0;
            kept.at = {};
            kept.name = word;
            const auto same =
                std::find_if(project.kept.begin(), project.kept.end(), [&](const Part& k) { return k.name == word; });
            if (same == project.kept.end())
                project.kept.push_back(std::move(kept));
            else
                *same = std::move(kept);
            return {};
        }};
}

void takeModule(Project& project, const Sheet& module, const std::vector<Sheet>& library) {
    for (const Sheet* sheet : modulesUnder(module, library))
        if (!project.findSheet(sheet->name)) {
            Sheet copy = freshCopy(project, *sheet);
            project.sheets.push_back(std::move(copy));
        }
}

bool takeMissingModules(Project& project, const std::vector<Sheet>& library) {
    const std::size_t before = project.sheets.size();
    std::set<std::string> needed;
    const auto look = [&](const Part& part) {
        if (const auto module = moduleOf(part.kind); !module.empty()) needed.emplace(module);
    };
    for (const Sheet& sheet : project.sheets) std::for_each(sheet.parts.begin(), sheet.parts.end(), look);
    std::for_each(project.kept.begin(), project.kept.end(), look);
    for (const Sheet& sheet : library)
        if (needed.contains(sheet.name) && !project.findSheet(sheet.name)) takeModule(project, sheet, library);
    return project.sheets.size() > before;
}

}  // namespace hedgerow::edits
