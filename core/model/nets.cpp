#include "model/nets.h"

#include <algorithm>
#include <numeric>
#include <set>

#include "model/modules.h"

namespace hedgerow {

namespace {

bool onSegment(Point a, Point b, Point p) {
    return std::min(a.x, b.x) <= p.x && p.x <= std::max(a.x, b.x) && std::min(a.y, b.y) <= p.y &&
           p.y <= std::max(a.y, b.y) &&
           static_cast<long long>(b.x - a.x) * (p.y - a.y) == static_cast<long long>(b.y - a.y) * (p.x - a.x);
}

class UnionFind {
public:
    int add() {
        parent_.push_back(static_cast<int>(parent_.size()));
        return parent_.back();
    }
    int root(int i) {
        while (parent_[static_cast<std::size_t>(i)] != i) {
            int& p = parent_[static_cast<std::size_t>(i)];
            p = parent_[static_cast<std::size_t>(p)];
            i = p;
        }
        return i;
    }
    void join(int a, int b) {
        const int low = std::min(root(a), root(b)), high = std::max(root(a), root(b));
        parent_[static_cast<std::size_t>(high)] = low;
    }

private:
    std::vector<int> parent_;
};

/// The places where something electrical is: pins, wire ends and labels, and which group each belongs to.
class Joiner {
public:
    Joiner(const Sheet& sheet, const Catalogue& catalogue) : sheet_(sheet), catalogue_(catalogue) {}

    NetList find() {
        for (const Part& part : sheet_.parts) {
            const PartKind* kind = catalogue_.find(part.kind);
            if (!kind) continue;
            for (std::size_t pin = 0; pin < kind->pins.size(); ++pin) {
                const Point at = part.toSheet(kind->pins[pin].at);
                pinGroups_.emplace_back(PinRef{part.id, static_cast<int>(pin)}, groupAt(at));
                ++ends_[at];
            }
        }
        for (const Wire& wire : sheet_.wires) {
            if (wire.points.size() < 2) continue;
            const int group = groupAt(wire.points.front());
            groups_.join(group, groupAt(wire.points.back()));
            wireGroups_.emplace_back(wire.id, group);
            ++ends_[wire.points.front()];
            ++ends_[wire.points.back()];
        }
        for (const Label& label : sheet_.labels) labelGroups_.emplace_back(&label, groupAt(label.at));
        joinTouching();
        joinLabels();
        return collect();
    }

private:
    int groupAt(Point at) {
        const auto [place, added] = places_.emplace(at, 0);
        if (added) place->second = groups_.add();
        return place->second;
    }

    void joinTouching() {
        for (const Wire& wire : sheet_.wires) {
            for (std::size_t i = 0; i + 1 < wire.points.size(); ++i) {
                const Point a = wire.points[i], b = wire.points[i + 1];
                // places_ is ordered by x, then y: only the columns between the ends can lie on the segment.
                auto place = places_.lower_bound({std::min(a.x, b.x), std::min(a.y, b.y)});
                for (; place != places_.end() && place->first.x <= std::max(a.x, b.x); ++place) {
                    const Point at = place->first;
                    if (!onSegment(a, b, at)) continue;
                    groups_.join(groupAt(wire.points.front()), place->second);
                    const bool end = at == wire.points.front() || at == wire.points.back();
                    if (!end && (i == 0 || at != a)) passing_[at] += 2;
                }
            }
        }
    }

    void joinLabels() {
        std::map<std::string, int> first;
        for (const auto& [label, group] : labelGroups_) {
            const auto [place, added] = first.emplace(label->net, group);
            if (!added) groups_.join(place->second, group);
        }
    }

    NetList collect() {
        NetList list;
        std::map<int, int> netOfGroup;
        const auto netOf = [&](int group) {
            const auto [place, added] = netOfGroup.emplace(groups_.root(group), static_cast<int>(list.nets.size()));
            if (added) list.nets.emplace_back();
            return place->second;
        };
        for (const auto& [pin, group] : pinGroups_) {
            const int net = netOf(group);
            list.netOfPin[pin] = net;
            list.nets[static_cast<std::size_t>(net)].pins.push_back(pin);
        }
        for (const auto& [wire, group] : wireGroups_) {
            const int net = netOf(group);
            list.netOfWire[wire] = net;
            list.nets[static_cast<std::size_t>(net)].wires.push_back(wire);
        }
        for (const auto& [label, group] : labelGroups_) {
            Net& net = list.nets[static_cast<std::size_t>(netOf(group))];
            net.labels.push_back(label->id);
            if (!net.labelled || label->net < net.name) net.name = label->net;
            net.labelled = true;
        }
        nameUnlabelled(list);
        findJunctions(list);
        return list;
    }

    void nameUnlabelled(NetList& list) const {
        std::map<int, const Part*> parts;
        for (const Part& part : sheet_.parts) parts[part.id] = &part;
        for (Net& net : list.nets) {
            if (net.labelled) continue;
            for (const PinRef& ref : net.pins) {
                const Part& part = *parts.at(ref.part);
                if (isModulePin(part)) {
                    net.name = part.name;
                    break;
                }
                const std::string name =
                    part.name + "." + catalogue_.find(part.kind)->pins[static_cast<std::size_t>(ref.pin)].name;
                if (net.name.empty() || name < net.name) net.name = name;
            }
        }
    }

    void findJunctions(NetList& list) const {
        for (const auto& [at, count] : ends_) {
            const auto through = passing_.find(at);
            if (count + (through == passing_.end() ? 0 : through->second) >= 3) list.junctions.push_back(at);
        }
    }

    const Sheet& sheet_;
    const Catalogue& catalogue_;
    UnionFind groups_;
    std::map<Point, int> places_;
    std::map<Point, int> ends_;
    std::map<Point, int> passing_;  ///< two for each wire that runs through
    std::vector<std::pair<PinRef, int>> pinGroups_;
    std::vector<std::pair<int, int>> wireGroups_;
    std::vector<std::pair<const Label*, int>> labelGroups_;
};

}  // namespace

bool liesOn(const Wire& wire, Point point) {
    for (std::size_t i = 0; i + 1 < wire.points.size(); ++i)
        if (onSegment(wire.points[i], wire.points[i + 1], point)) return true;
    return false;
}

NetList findNets(const Sheet& sheet, const Catalogue& catalogue) { return Joiner(sheet, catalogue).find(); }

}  // namespace hedgerow
