#include "model/edits.h"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "base/text.h"
#include "model/modules.h"
#include "model/mover.h"
#include "model/nets.h"
#include "model/quantity.h"
#include "model/references.h"
#include "model/route.h"

namespace hedgerow::edits {

namespace {

/// Joins the two wires that end on the pins of a part which lies in one straight run with them.
void closeGap(Project& project, int id, const Catalogue& catalogue) {
    const Part* part = project.findPart(id);
    if (!part) return;
    const auto pins = pinPoints(*part, catalogue);
    if (pins.size() != 2 || pins[0].y != pins[1].y) return;  // across, as series parts are drawn
    const bool right = pins[0].x < pins[1].x;
    for (std::size_t k = 0; k < 2; ++k) {
        const Point pin = pins[k];
        int touching = 0;
        bool straight = false;
        for (const Part& other : project.sheet().parts)
            if (other.id != id)
                for (const Point point : pinPoints(other, catalogue)) touching += point == pin;
        for (const Wire& wire : project.sheet().wires) {
            if (!liesOn(wire, pin)) continue;
            ++touching;
            const bool front = wire.points.front() == pin;
            if (!front && wire.points.back() != pin) return;
            const Point next = front ? wire.points[1] : wire.points[wire.points.size() - 2];
            straight = next.y == pin.y && ((next.x < pin.x) == ((k == 0) == right));
        }
        if (touching != 1 || !straight) return;
    }
    project.sheet().wires.push_back({project.newId(), {pins[0], pins[1]}, ""});
}

/// Cuts the piece between the two pins out of a wire whose straight run holds both.
void splice(Sheet& sheet, Project& project, Point a, Point b) {
    for (Wire& wire : sheet.wires) {
        for (std::size_t i = 0; i + 1 < wire.points.size(); ++i) {
            const Wire run{0, {wire.points[i], wire.points[i + 1]}, ""};
            if (a == b || !liesOn(run, a) || !liesOn(run, b)) continue;
            const auto distance = [&](Point p) {
                return std::abs(p.x - run.points[0].x) + std::abs(p.y - run.points[0].y);
            };
            if (distance(b) < distance(a)) std::swap(a, b);
            std::vector<Point> head(wire.points.begin(), wire.points.begin() + static_cast<long>(i) + 1);
            std::vector<Point> tail(wire.points.begin() + static_cast<long>(i) + 1, wire.points.end());
            head.push_back(a);
            tail.insert(tail.begin(), b);
            wire.points = simplified(head);
            Wire rest{project.newId(), simplified(tail), ""};
            sheet.wires.push_back(std::move(rest));
            std::erase_if(sheet.wires, [](const Wire& w) { return w.points.size() < 2; });
            return;
        }
    }
}

Point middleOf(const Sheet& sheet, const std::set<int>& ids) {
    Point sum{};
    int count = 0;
    for (const Part& part : sheet.parts)
        if (ids.contains(part.id)) sum = sum + part.at, ++count;
    return count == 0 ? Point{} : snapped(double(sum.x) / count, double(sum.y) / count);
}

template <class Change>
Edit turned(std::string verb, std::set<int> ids, const Catalogue& catalogue, Change change) {
    return {std::move(verb), [ids = std::move(ids), &catalogue, change](Project& project) -> Status {
                const Point middle = middleOf(project.sheet(), ids);
                Mover mover(project, ids, catalogue);
                for (Part& part : project.sheet().parts)
                    if (ids.contains(part.id)) change(part, middle);
                mover.follow({});
                return {};
            }};
}

/// A module takes a rung for all that is inside.
void takeRung(Part& part, const PartKind& kind, int rung) {
    part.rung = rung;
    if (kind.module) part.values.set(insideKey, std::string(oneRung));
}

/// The values that places of the module in view set follow a new name; "" drops them.
void renameInPlaces(Project& project, const std::string& from, const std::string& to) {
    const std::string kind = moduleKindId(project.sheet().name);
    for (Sheet& sheet : project.sheets)
        for (Part& place : sheet.parts) {
            const std::string* typed = place.kind == kind ? place.values.find(from) : nullptr;
            if (!typed) continue;
            const std::string text = *typed;
            place.values.set(from, "");
            if (!to.empty()) place.values.set(to, text);
        }
}

}  // namespace

std::string freeName(const Project& project, const PartKind& kind) {
    for (int n = 1;; ++n) {
        const std::string name = kind.prefix + std::to_string(n);
        if (!project.findPart(name)) return name;
    }
}

Edit place(Part part, const Catalogue& catalogue) {
    const PartKind* known = catalogue.find(part.kind);
    return {"place " + (known ? lowerCase(known->title) : part.kind), [part, &catalogue](Project& project) -> Status {
                const PartKind* kind = catalogue.find(part.kind);
                if (project.showsModule() && wouldContainItself(project, project.sheet().name, moduleOf(part.kind)))
                    return Error{ErrorCode::name, fmt::format("{} cannot stand inside itself", moduleOf(part.kind))};
                if (!kind) return Error{ErrorCode::name, fmt::format("no part is called '{}'", part.kind)};
                Part placed = part;
                placed.id = project.newId();
                if (placed.name.empty()) placed.name = freeName(project, *kind);
                const auto pins = pinPoints(placed, catalogue);
                if (pins.size() == 2) splice(project.sheet(), project, pins[0], pins[1]);
                project.sheet().parts.push_back(std::move(placed));
                return {};
            }};
}

Edit remove(std::set<int> ids, const Catalogue& catalogue) {
    return {"delete", [ids = std::move(ids), &catalogue](Project& project) -> Status {
                if (ids.size() == 1) closeGap(project, *ids.begin(), catalogue);
                const auto chosen = [&](const auto& item) { return ids.contains(item.id); };
                std::erase_if(project.sheet().parts, chosen);
                std::erase_if(project.sheet().wires, chosen);
                std::erase_if(project.sheet().labels, chosen);
                return {};
            }};
}

Edit move(std::set<int> ids, Point by, const Catalogue& catalogue) {
    return {"move", [ids = std::move(ids), by, &catalogue](Project& project) -> Status {
                Mover mover(project, ids, catalogue);
                Sheet& sheet = project.sheet();
                for (Part& part : sheet.parts)
                    if (ids.contains(part.id)) part.at = part.at + by;
                mover.follow(by);
                return {};
            }};
}

Edit turn(std::set<int> ids, const Catalogue& catalogue) {
    return turned("turn", std::move(ids), catalogue, [](Part& part, Point middle) {
        const Point offset = part.at - middle;
        part.at = middle + Point{-offset.y, offset.x};
        part.turn = (part.turn + 1) % 4;
    });
}

Edit flip(std::set<int> ids, const Catalogue& catalogue) {
    return turned("flip", std::move(ids), catalogue, [](Part& part, Point middle) {
        part.at.x = 2 * middle.x - part.at.x;
        part.flip = !part.flip;
        part.turn = (4 - part.turn) % 4;
    });
}

Edit addWire(std::vector<Point> points, bool bent) {
    return {"wire", [points = simplified(points), bent](Project& project) -> Status {
                if (points.size() < 2) return {};
                project.sheet().wires.push_back({project.newId(), points, "", bent});
                return {};
            }};
}

Edit setLabel(Point at, std::string net) {
    return {
        "name net " + net, [at, net](Project& project) -> Status {
            if (!isIdentifier(net))
                return Error{
                    ErrorCode::name, fmt::format("'{}' cannot name a net: use letters, digits and _", net), {}, net};
            for (Label& label : project.sheet().labels)
                if (label.at == at) {
                    label.net = net;
                    return {};
                }
            project.sheet().labels.push_back({project.newId(), at, net, ""});
            return {};
        }};
}

Edit renameLabel(int id, std::string net) {
    return {
        "name net " + net, [id, net](Project& project) -> Status {
            Label* label = project.findLabel(id);
            if (!label) return {};
            if (!isIdentifier(net))
                return Error{
                    ErrorCode::name, fmt::format("'{}' cannot name a net: use letters, digits and _", net), {}, net};
            const std::string old = std::exchange(label->net, net);
            const auto& labels = project.sheet().labels;
            // What is called after the net follows when none of its names is left.
            if (old != net && std::none_of(labels.begin(), labels.end(), [&](const Label& l) { return l.net == old; }))
                renameThing(project, old, net, true);
            return {};
        }};
}

Edit renamePart(int id, std::string name) {
    return {"rename " + name, [id, name](Project& project) -> Status {
                Part* part = project.findPart(id);
                if (!part || part->name == name) return {};
                if (!isIdentifier(name))
                    return Error{ErrorCode::name,
                                 fmt::format("'{}' cannot name a part: use letters, digits and _", name), part->name};
                if (project.findPart(name))
                    return Error{ErrorCode::name, fmt::format("there is another part called {}", name), part->name};
                renameThing(project, std::exchange(part->name, name), name, false);
                return {};
            }};
}

namespace {
/// What is typed is no estimate any more.
void noLongerEstimated(Part& part, const std::string& key) {
    const std::string* list = part.values.find("estimated");
    if (!list || key == "estimated") return;
    std::vector<std::string> kept = words(*list);
    std::erase(kept, key);
    part.values.set("estimated", joined(kept, " "));
}
}  // namespace

Edit setValue(std::set<int> ids, std::string key, std::string text) {
    std::string merge = "value " + key;
    for (const int id : ids) merge += " " + std::to_string(id);
    return {"set " + key,
            [ids = std::move(ids), key, text](Project& project) -> Status {
                for (Part& part : project.sheet().parts) {
                    if (!ids.contains(part.id)) continue;
                    part.values.set(key, text);
                    noLongerEstimated(part, key);
                }
                return {};
            },
            merge};
}

Edit climb(std::set<int> ids, int steps, const Catalogue& catalogue) {
    return {steps > 0 ? "climb" : "descend", [ids = std::move(ids), steps, &catalogue](Project& project) -> Status {
                for (Part& part : project.sheet().parts) {
                    const PartKind* kind = catalogue.find(part.kind);
                    if (!kind || !ids.contains(part.id)) continue;
                    for (int rung = part.rung + steps; rung >= 0 && rung <= 4; rung += steps)
                        if (kind->hasRung(rung)) {
                            takeRung(part, *kind, rung);
                            break;
                        }
                }
                return {};
            }};
}

Edit setRung(std::set<int> ids, int rung, const Catalogue& catalogue) {
    return {fmt::format("rung {}", rung), [ids = std::move(ids), rung, &catalogue](Project& project) -> Status {
                for (Part& part : project.sheet().parts) {
                    const PartKind* kind = catalogue.find(part.kind);
                    if (kind && ids.contains(part.id) && kind->hasRung(rung)) takeRung(part, *kind, rung);
                }
                return {};
            }};
}

Edit setParameter(std::string name, Parameter parameter, const Catalogue& catalogue) {
    const std::string label = "parameter " + parameter.name;
    const std::string merge = "parameter " + name;
    return {
        label,
        [name, parameter, &catalogue](Project& project) -> Status {
            if (!isIdentifier(parameter.name) || parameter.name == "pi")
                return Error{ErrorCode::name,
                             fmt::format("'{}' cannot name a parameter: use letters, digits and _", parameter.name),
                             {},
                             {},
                             name};
            if (!findUnit(parameter.unit))
                return Error{
                    ErrorCode::unit, fmt::format("'{}' is not a unit", parameter.unit), {}, {}, parameter.name};
            std::vector<Parameter>& list = project.ownParameters();
            const auto find = [&](const std::string& wanted) {
                return std::find_if(list.begin(), list.end(), [&](const Parameter& p) { return p.name == wanted; });
            };
            if (project.showsModule() && parameter.name == insideKey)
                return Error{ErrorCode::name,
                             fmt::format("'{}' says which rungs hold inside a module: take another name", insideKey),
                             {},
                             {},
                             name};
            if (parameter.name != name && find(parameter.name) != list.end())
                return Error{
                    ErrorCode::name, fmt::format("there is another parameter called {}", parameter.name), {}, {}, name};
            const auto existing = find(name);
            if (existing == list.end()) {
                list.push_back(parameter);
                return {};
            }
            *existing = parameter;
            if (parameter.name == name) return {};
            renameInExpressions(project, catalogue, name, parameter.name);
            if (project.showsModule()) renameInPlaces(project, name, parameter.name);
            return {};
        },
        merge};
}

Edit promote(int id, std::string key, std::string name, const Catalogue& catalogue) {
    return {"parameter " + name, [id, key, name, &catalogue](Project& project) -> Status {
                Part* part = project.findPart(id);
                const PartKind* kind = part ? catalogue.find(part->kind) : nullptr;
                const ParameterKind* value = kind ? kind->findParameter(key) : nullptr;
                if (!value || value->text || !value->choices.empty()) return {};
                const auto& list = project.ownParameters();
                if (std::any_of(list.begin(), list.end(), [&](const Parameter& p) { return p.name == name; }))
                    return Error{
                        ErrorCode::name, fmt::format("there is a parameter called {} already", name), {}, {}, name};
                const std::string* typed = part->values.find(key);
                const Parameter made{name, typed ? *typed : value->standard, value->unit, "", ""};
                if (auto added = setParameter("", made, catalogue).apply(project); !added) return added;
                part->values.set(key, name);
                return {};
            }};
}

Edit removeParameter(std::string name) {
    return {"remove parameter " + name, [name](Project& project) -> Status {
                std::erase_if(project.ownParameters(), [&](const Parameter& p) { return p.name == name; });
                if (project.showsModule()) renameInPlaces(project, name, "");
                return {};
            }};
}

/// Puts a study in the place of the one of a name, or behind the others.
template <class Study>
Edit setStudyIn(std::vector<Study> Project::*list, const std::string& name, const Study& study) {
    return {"study " + study.name,
            [list, name, study](Project& project) -> Status {
                if (study.name.empty()) return Error{ErrorCode::name, "a study needs a name"};
                for (const Study& other : project.*list)
                    if (study.name != name && other.name == study.name)
                        return Error{ErrorCode::name, "there is a study " + study.name + " already"};
                for (Study& existing : project.*list)
                    if (existing.name == name) {
                        existing = study;
                        return {};
                    }
                (project.*list).push_back(study);
                return {};
            },
            "study " + name};
}

Edit setStudy(std::string name, TradeStudy study) { return setStudyIn(&Project::studies, name, study); }

Edit setParameterStudy(std::string name, ParameterStudy study) {
    return setStudyIn(&Project::parameterStudies, name, study);
}

Edit setPlan(std::string name, Plan plan) {
    return {"plan " + plan.name,
            [name, plan](Project& project) -> Status {
                for (Plan& existing : project.plans)
                    if (existing.name == name) {
                        existing = plan;
                        return {};
                    }
                project.plans.push_back(plan);
                return {};
            },
            "plan " + name};
}

Edit setScene(std::string name, Scene scene) {
    return {"scene " + scene.name,
            [name, scene](Project& project) -> Status {
                if (scene.name.empty()) return Error{ErrorCode::name, "a scene needs a name"};
                if (scene.name != name && project.findScene(scene.name))
                    return Error{ErrorCode::name, fmt::format("there is a scene called {} already", scene.name)};
                for (Scene& existing : project.scenes)
                    if (existing.name == name) {
                        existing = scene;
                        return {};
                    }
                project.scenes.push_back(scene);
                return {};
            },
            "scene " + name};
}

Edit removeStudy(std::string name) {
    return {"remove study " + name, [name](Project& project) -> Status {
                std::erase_if(project.studies, [&](const TradeStudy& study) { return study.name == name; });
                return {};
            }};
}

Edit removeParameterStudy(std::string name) {
    return {"remove study " + name, [name](Project& project) -> Status {
                std::erase_if(project.parameterStudies, [&](const ParameterStudy& study) { return study.name == name; });
                return {};
            }};
}

Edit removeScene(std::string name) {
    return {"remove scene " + name, [name](Project& project) -> Status {
                if (project.scenes.size() < 2) return Error{ErrorCode::range, "a project needs a scene"};
                std::erase_if(project.scenes, [&](const Scene& scene) { return scene.name == name; });
                return {};
            }};
}

Edit setLanes(std::vector<Lane> lanes, std::string label) {
    return {std::move(label), [lanes = std::move(lanes)](Project& project) -> Status {
                project.lanes = lanes;
                return {};
            }};
}

Edit keepLaneSet(std::string name) {
    return {"keep lanes as " + name, [name](Project& project) -> Status {
                if (name.empty()) return Error{ErrorCode::name, "a set of lanes needs a name"};
                for (LaneSet& set : project.laneSets)
                    if (set.name == name) {
                        set.lanes = project.lanes;
                        return {};
                    }
                project.laneSets.push_back({name, project.lanes, ""});
                return {};
            }};
}

Edit showLaneSet(std::string name) {
    return {"show lanes " + name, [name](Project& project) -> Status {
                for (const LaneSet& set : project.laneSets)
                    if (set.name == name) {
                        project.lanes = set.lanes;
                        return {};
                    }
                return Error{ErrorCode::name, "there are no lanes kept as '" + name + "'"};
            }};
}

Edit removeLaneSet(std::string name) {
    return {"remove lanes " + name, [name](Project& project) -> Status {
                std::erase_if(project.laneSets, [&](const LaneSet& set) { return set.name == name; });
                return {};
            }};
}

Edit setPlanOfLanes(std::string name, std::string plan) {
    return {"lanes of a plan", [name, plan](Project& project) -> Status {
                for (LaneSet& set : project.laneSets) {
                    if (set.name == name)
                        set.plan = plan;
                    else if (!plan.empty() && set.plan == plan)
                        set.plan.clear();  // one set a plan
                }
                return {};
            }};
}

Edit setMeasured(MeasuredPeriods measured) {
    return {"what is measured", [measured](Project& project) -> Status {
                project.measured = measured;
                return {};
            }};
}

Edit paste(Sheet clip, Point by, const Catalogue& catalogue, std::set<int>* added) {
    return {"paste", [clip = std::move(clip), by, &catalogue, added](Project& project) -> Status {
                Sheet& sheet = project.sheet();
                std::set<int> ids;
                for (Part part : clip.parts) {
                    const PartKind* kind = catalogue.find(part.kind);
                    if (!kind) continue;
                    part.id = project.newId();
                    part.at = part.at + by;
                    if (project.findPart(part.name)) part.name = freeName(project, *kind);
                    ids.insert(part.id);
                    sheet.parts.push_back(std::move(part));
                }
                for (Wire wire : clip.wires) {
                    wire.id = project.newId();
                    for (Point& point : wire.points) point = point + by;
                    ids.insert(wire.id);
                    sheet.wires.push_back(std::move(wire));
                }
                for (Label label : clip.labels) {
                    label.id = project.newId();
                    label.at = label.at + by;
                    ids.insert(label.id);
                    sheet.labels.push_back(std::move(label));
                }
                if (added) *added = ids;
                return {};
            }};
}

Sheet copied(const Sheet& sheet, const std::set<int>& ids) {
    Sheet clip;
    const auto take = [&](const auto& from, auto& to) {
        for (const auto& item : from)
            if (ids.contains(item.id)) to.push_back(item);
    };
    take(sheet.parts, clip.parts);
    take(sheet.wires, clip.wires);
    take(sheet.labels, clip.labels);
    return clip;
}

}  // namespace hedgerow::edits
