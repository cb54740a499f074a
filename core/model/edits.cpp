#include "model/edits.h"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "base/text.h"
#include "model/nets.h"
#include "model/quantity.h"
#include "model/route.h"
#include "model/router.h"

namespace hedgerow::edits {

namespace {

std::vector<Point> pinPoints(const Part& part, const Catalogue& catalogue) {
    std::vector<Point> points;
    if (const PartKind* kind = catalogue.find(part.kind))
        for (const PinKind& pin : kind->pins) points.push_back(part.toSheet(pin.at));
    return points;
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

/// Changes the places of some items and takes what hangs on them along.
///
/// A chosen wire moves as a whole unless one of its ends hangs on a part that stays: then it only bends.
class Mover {
public:
    Mover(Project& project, const std::set<int>& ids, const Catalogue& catalogue)
        : project_(project), sheet_(project.sheet()), catalogue_(catalogue) {
        for (const Part& part : sheet_.parts) {
            if (ids.contains(part.id))
                before_[part.id] = pinPoints(part, catalogue);
            else
                for (const Point point : pinPoints(part, catalogue)) staying_.insert(point);
        }
        for (const Wire& wire : sheet_.wires)
            if (ids.contains(wire.id) &&
                std::none_of(staying_.begin(), staying_.end(), [&](Point p) { return liesOn(wire, p); }))
                whole_.insert(wire.id);
    }

    bool movesWhole(const Wire& wire) const { return whole_.contains(wire.id); }

    /// Call after the parts themselves were changed. `by` is how far whole wires are to go; labels on what moves
    /// follow.
    void follow(Point by) {
        for (const Part& part : sheet_.parts) {
            if (!before_.contains(part.id)) continue;
            const auto after = pinPoints(part, catalogue_);
            for (std::size_t i = 0; i < after.size(); ++i) moved_[before_[part.id][i]] = after[i];
        }
        std::set<Point> touching = staying_;
        for (const Wire& wire : sheet_.wires) touching.insert({wire.points.front(), wire.points.back()});
        if (by != Point{}) moveWholeWires(by);
        std::vector<Wire> added;
        for (const auto& [from, to] : moved_) {
            if (from == to || !anchored(from)) continue;
            added.push_back(newWire(from, to));
            kept_.insert(from);
        }
        touching.insert(kept_.begin(), kept_.end());
        for (Wire& wire : sheet_.wires)
            if (by == Point{} || !movesWhole(wire)) bendEnds(wire, touching, added);
        sheet_.wires.insert(sheet_.wires.end(), added.begin(), added.end());
        std::erase_if(sheet_.wires, [](const Wire& w) { return w.points.size() < 2; });
        for (Label& label : sheet_.labels)
            if (const auto to = moved_.find(label.at); to != moved_.end() && !kept_.contains(label.at))
                label.at = to->second;
        makeWay();
        dropCovered();
    }

private:
    Wire newWire(Point from, Point to) {
        const int id = project_.newId();
        free_.insert(id);
        return {id, simplified({from, {to.x, from.y}, to}), ""};
    }

    /// Finds new ways for wires that changed, and for those that run through a part that moved.
    void makeWay() {
        std::set<Point> joints;
        for (const Part& part : sheet_.parts)
            for (const Point point : pinPoints(part, catalogue_)) joints.insert(point);
        for (const Label& label : sheet_.labels) joints.insert(label.at);
        for (const Wire& wire : sheet_.wires) joints.insert({wire.points.front(), wire.points.back()});
        for (const Wire& wire : sheet_.wires)
            if (!wire.bent && !free_.contains(wire.id) && throughMoved(wire) && !touchedBetween(wire, joints))
                free_.insert(wire.id);
        if (free_.empty()) return;
        Point low{INT32_MAX, INT32_MAX}, high{INT32_MIN, INT32_MIN};
        for (const Wire& wire : sheet_.wires)
            for (const Point point : wire.points) {
                if (!free_.contains(wire.id)) continue;
                low = {std::min(low.x, point.x), std::min(low.y, point.y)};
                high = {std::max(high.x, point.x), std::max(high.y, point.y)};
            }
        if (low.x > high.x) return;
        Router router(sheet_, catalogue_, low, high);
        for (Wire& wire : sheet_.wires) {
            if (!free_.contains(wire.id)) continue;
            router.remove(wire);
            if (!router.clean(wire.points)) wire.points = router.route(wire.points.front(), wire.points.back());
            router.add(wire);
        }
    }
    bool throughMoved(const Wire& wire) const {
        return std::any_of(sheet_.parts.begin(), sheet_.parts.end(), [&](const Part& part) {
            if (!before_.contains(part.id)) return false;
            const PartKind* kind = catalogue_.find(part.kind);
            if (!kind) return false;
            const auto [boxLow, boxHigh] = kind->bounds();
            const Point a = part.toSheet(boxLow), b = part.toSheet(boxHigh);
            for (std::size_t i = 0; i + 1 < wire.points.size(); ++i) {
                const Point p = wire.points[i], q = wire.points[i + 1];
                if (std::max(std::min(p.x, q.x), std::min(a.x, b.x)) <=
                        std::min(std::max(p.x, q.x), std::max(a.x, b.x)) &&
                    std::max(std::min(p.y, q.y), std::min(a.y, b.y)) <=
                        std::min(std::max(p.y, q.y), std::max(a.y, b.y)))
                    return true;
            }
            return false;
        });
    }
    static bool touchedBetween(const Wire& wire, const std::set<Point>& joints) {
        for (std::size_t i = 0; i + 1 < wire.points.size(); ++i) {
            const auto [low, high] = std::minmax(wire.points[i], wire.points[i + 1]);
            for (auto joint = joints.lower_bound(low); joint != joints.end() && *joint <= high; ++joint)
                if (liesOn(wire, *joint) && *joint != wire.points.front() && *joint != wire.points.back()) return true;
        }
        return false;
    }

    /// Whole wires take along what ends on them.
    void moveWholeWires(Point by) {
        for (Wire& wire : sheet_.wires) {
            if (!movesWhole(wire)) continue;
            for (const Wire& other : sheet_.wires)
                for (const Point end : {other.points.front(), other.points.back()})
                    if (liesOn(wire, end)) moved_.emplace(end, end + by);
            for (const Label& label : sheet_.labels)
                if (liesOn(wire, label.at)) moved_.emplace(label.at, label.at + by);
        }
        for (Wire& wire : sheet_.wires)
            if (movesWhole(wire))
                for (Point& point : wire.points) point = point + by;
    }

    /// A straight wire that lies wholly on another one joins nothing that is not joined already.
    void dropCovered() {
        auto& wires = sheet_.wires;
        for (std::size_t i = wires.size(); i-- > 0;) {
            if (wires[i].points.size() != 2) continue;
            const bool covered = std::any_of(wires.begin(), wires.end(), [&](const Wire& other) {
                if (&other == &wires[i]) return false;
                for (std::size_t k = 0; k + 1 < other.points.size(); ++k) {
                    const Wire run{0, {other.points[k], other.points[k + 1]}, ""};
                    if (liesOn(run, wires[i].points[0]) && liesOn(run, wires[i].points[1])) return true;
                }
                return false;
            });
            if (covered) wires.erase(wires.begin() + static_cast<long>(i));
        }
    }

    /// True where a pin or the middle of a wire stays behind at `point`.
    bool anchored(Point point) const {
        return staying_.contains(point) || std::any_of(sheet_.wires.begin(), sheet_.wires.end(), [&](const Wire& wire) {
                   return !movesWhole(wire) && wire.points.front() != point && wire.points.back() != point &&
                          liesOn(wire, point);
               });
    }

    /// Bends a wire after its ends. Where something touches the middle that the bend would leave behind, the wire stays
    /// and new ones reach from its ends to where those are now.
    void bendEnds(Wire& wire, const std::set<Point>& touching, std::vector<Wire>& added) {
        const Wire old = wire;
        const Point oldFront = old.points.front(), oldBack = old.points.back(), front = target(oldFront),
                    back = target(oldBack);
        if (front == oldFront && back == oldBack) return;
        if (front - oldFront == back - oldBack) {
            for (Point& point : wire.points) point = point + (front - oldFront);
        } else {
            if (front != oldFront) wire.points = withMovedEnd(wire.points, true, front);
            if (back != oldBack && wire.points.size() >= 2) wire.points = withMovedEnd(wire.points, false, back);
        }
        bool leaves = false, touched = false;
        for (const Point p : touching) {
            if (p == oldFront || p == oldBack || !liesOn(old, p)) continue;
            touched = true;
            leaves = leaves || !liesOn(wire, p);
        }
        if (!touched && !wire.bent) free_.insert(wire.id);
        if (!leaves) return;
        wire = old;
        if (front != oldFront) added.push_back(newWire(oldFront, front));
        if (back != oldBack) added.push_back(newWire(oldBack, back));
    }
    Point target(Point from) const {
        const auto to = moved_.find(from);
        return to == moved_.end() || kept_.contains(from) ? from : to->second;
    }

    Project& project_;
    Sheet& sheet_;
    const Catalogue& catalogue_;
    std::map<int, std::vector<Point>> before_;
    std::set<Point> staying_, kept_;
    std::set<int> free_;  ///< wires that the router may lay anew
    std::set<int> whole_;
    std::map<Point, Point> moved_;
};

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

}  // namespace

std::string freeName(const Project& project, const PartKind& kind) {
    for (int n = 1;; ++n) {
        const std::string name = kind.prefix + std::to_string(n);
        if (!project.findPart(name)) return name;
    }
}

Edit place(Part part, const Catalogue& catalogue) {
    const PartKind* kind = catalogue.find(part.kind);
    return {"place " + (kind ? lowerCase(kind->title) : part.kind),
            [part, kind, &catalogue](Project& project) -> Status {
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

Edit remove(std::set<int> ids) {
    return {"delete", [ids = std::move(ids)](Project& project) -> Status {
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
            label->net = net;
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
                const std::string old = std::exchange(part->name, name) + ".";
                const auto follow = [&](std::string& quantity) {
                    if (quantity.starts_with(old)) quantity = name + "." + quantity.substr(old.size());
                };
                for (Lane& lane : project.lanes)
                    for (std::string& quantity : lane.quantities) follow(quantity);
                for (Plan& plan : project.plans)
                    for (auto& [quantity, tolerance] : plan.tolerances) follow(quantity);
                return {};
            }};
}

Edit setValue(std::set<int> ids, std::string key, std::string text) {
    std::string merge = "value " + key;
    for (const int id : ids) merge += " " + std::to_string(id);
    return {"set " + key,
            [ids = std::move(ids), key, text](Project& project) -> Status {
                for (Part& part : project.sheet().parts)
                    if (ids.contains(part.id)) part.values.set(key, text);
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
                            part.rung = rung;
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
                    if (kind && ids.contains(part.id) && kind->hasRung(rung)) part.rung = rung;
                }
                return {};
            }};
}

Edit setParameter(std::string name, Parameter parameter) {
    const std::string label = "parameter " + parameter.name;
    const std::string merge = "parameter " + name;
    return {
        label,
        [name, parameter](Project& project) -> Status {
            if (!isIdentifier(parameter.name) || parameter.name == "pi")
                return Error{ErrorCode::name,
                             fmt::format("'{}' cannot name a parameter: use letters, digits and _", parameter.name),
                             {},
                             {},
                             name};
            if (!findUnit(parameter.unit))
                return Error{
                    ErrorCode::unit, fmt::format("'{}' is not a unit", parameter.unit), {}, {}, parameter.name};
            if (parameter.name != name && project.findParameter(parameter.name))
                return Error{
                    ErrorCode::name, fmt::format("there is another parameter called {}", parameter.name), {}, {}, name};
            if (Parameter* existing = project.findParameter(name))
                *existing = parameter;
            else
                project.parameters.push_back(parameter);
            return {};
        },
        merge};
}

Edit removeParameter(std::string name) {
    return {"remove parameter " + name, [name](Project& project) -> Status {
                std::erase_if(project.parameters, [&](const Parameter& p) { return p.name == name; });
                return {};
            }};
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

Edit setLanes(std::vector<Lane> lanes, std::string label) {
    return {std::move(label), [lanes = std::move(lanes)](Project& project) -> Status {
                project.lanes = lanes;
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
