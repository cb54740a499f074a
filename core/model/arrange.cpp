#include "model/arrange.h"

#include <algorithm>

#include <fmt/format.h>

#include "model/edits.h"
#include "model/mover.h"

namespace hedgerow::edits {

namespace {

/// An edit that gives each of the chosen parts its own shift; what hangs on them follows.
template <class Shift>
Edit shifted(std::string label, std::set<int> ids, const Catalogue& catalogue, Shift shift) {
    return {std::move(label), [ids = std::move(ids), &catalogue, shift](Project& project) -> Status {
                std::vector<Part*> parts;
                for (Part& part : project.sheet().parts)
                    if (ids.contains(part.id)) parts.push_back(&part);
                if (parts.size() < 2) return {};
                Mover mover(project, ids, catalogue);
                shift(parts);
                mover.follow({});
                return {};
            }};
}

}  // namespace

Edit align(std::set<int> ids, Edge edge, const Catalogue& catalogue) {
    return shifted("align", std::move(ids), catalogue, [edge, &catalogue](std::vector<Part*>& parts) {
        const auto place = [&](const Part& part) {
            const PartKind* kind = catalogue.find(part.kind);
            const Box box = kind ? boxOf(part, *kind) : Box{part.at, part.at};
            switch (edge) {
                case Edge::left:
                    return box.low.x;
                case Edge::right:
                    return box.high.x;
                case Edge::top:
                    return box.low.y;
                case Edge::bottom:
                    return box.high.y;
                case Edge::column:
                    return part.at.x;
                case Edge::row:
                    return part.at.y;
            }
            return 0;
        };
        const bool horizontal = edge == Edge::left || edge == Edge::right || edge == Edge::column;
        double goal = place(*parts.front()), sum = 0;
        for (const Part* part : parts) {
            const double now = place(*part);
            sum += now;
            if (edge == Edge::left || edge == Edge::top) goal = std::min(goal, now);
            if (edge == Edge::right || edge == Edge::bottom) goal = std::max(goal, now);
        }
        if (edge == Edge::column || edge == Edge::row) goal = sum / static_cast<double>(parts.size());
        for (Part* part : parts) {
            const double by = goal - place(*part);
            part->at = part->at + (horizontal ? snapped(by, 0) : snapped(0, by));
        }
    });
}

Edit distribute(std::set<int> ids, bool horizontally, const Catalogue& catalogue) {
    return shifted("distribute", std::move(ids), catalogue, [horizontally](std::vector<Part*>& parts) {
        const auto place = [horizontally](const Part* part) { return horizontally ? part->at.x : part->at.y; };
        std::stable_sort(parts.begin(), parts.end(), [&](auto a, auto b) { return place(a) < place(b); });
        const double first = place(parts.front()), last = place(parts.back());
        for (std::size_t i = 1; i + 1 < parts.size(); ++i) {
            const double goal = first + (last - first) * static_cast<double>(i) / static_cast<double>(parts.size() - 1);
            (horizontally ? parts[i]->at.x : parts[i]->at.y) = snapped(goal, goal).x;
        }
    });
}

Edit array(std::set<int> ids, int copies, Point step, const Catalogue& catalogue) {
    return {fmt::format("{} copies", copies),
            [ids = std::move(ids), copies, step, &catalogue](Project& project) -> Status {
                constexpr int mostCopies = 1000;
                if (copies < 1 || copies > mostCopies)
                    return Error{ErrorCode::range, fmt::format("between 1 and {} copies can be made", mostCopies)};
                const Sheet clip = copied(project.sheet(), ids);
                for (int k = 1; k <= copies; ++k)
                    if (auto done = paste(clip, {step.x * k, step.y * k}, catalogue).apply(project); !done) return done;
                return {};
            }};
}

}  // namespace hedgerow::edits
