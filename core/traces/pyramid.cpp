#include "traces/pyramid.h"

#include <algorithm>

namespace hedgerow {

namespace {

constexpr std::size_t mostDetails = 4096;  ///< kept at once, 11 kB each

/// Adds points read from a source and the lines that start at them. @pre one point more was read
void addPoints(const Tick* times, const double* a, const double* b, std::size_t count, bool product, bool holds,
               Block& sum) {
    for (std::size_t i = 0; i < count; ++i) {
        sum.include(a[i] * b[i]);
        if (times[i + 1] > times[i])
            sum.addLine(toSeconds(times[i + 1] - times[i]), a[i], holds ? a[i] : a[i + 1], b[i],
                        holds ? b[i] : b[i + 1], product);
    }
}

/// Points of a source, for the time of one call.
struct Workspace {
    static constexpr std::size_t most = PointSource::chunk + 1;
    std::array<Tick, most> times;
    std::array<double, most> a, b;

    void read(const PointSource& from, std::size_t first, std::size_t last) {
        from.read(first, last, times.data(), a.data(), b.data());
        if (!from.product()) std::fill_n(b.begin(), last - first, 1.0);
    }
};

Workspace& workspace() {
    thread_local Workspace points;
    return points;
}

}  // namespace

std::size_t firstChunkFrom(const PointSource& points, std::size_t count, Tick t) {
    std::size_t low = 0;
    while (low < count) {
        const std::size_t middle = (low + count) / 2;
        if (points.chunkStart(middle) < t)
            low = middle + 1;
        else
            count = middle;
    }
    return low;
}

void Pyramid::extend(const PointSource& points) {
    if (levels_.empty()) {
        levels_.emplace_back();
        if (auto known = points.digest()) levels_[0] = std::move(known->blocks);
    }
    const std::size_t complete = points.size() == 0 ? 0 : (points.size() - 1) / chunk;
    Workspace& read = workspace();
    for (std::size_t k = levels_[0].size(); k < complete; ++k) {
        read.read(points, k * chunk, (k + 1) * chunk + 1);
        Block sum;
        addPoints(read.times.data(), read.a.data(), read.b.data(), chunk, points.product(), points.holds(), sum);
        levels_[0].push_back(sum);
    }
    raise();
}

void Pyramid::raise() {
    for (std::size_t level = 1; levels_[level - 1].size() >= fan; ++level) {
        if (levels_.size() <= level) levels_.emplace_back();
        const auto& below = levels_[level - 1];
        for (std::size_t j = levels_[level].size(); (j + 1) * fan <= below.size(); ++j) {
            Block sum = below[j * fan];
            for (std::size_t k = 1; k < fan; ++k) sum.add(below[j * fan + k]);
            levels_[level].push_back(sum);
        }
    }
}

Pyramid::Detail& Pyramid::detailOf(const PointSource& points, std::size_t k) {
    const auto known = details_.find(k);
    if (known != details_.end()) return *known->second;
    if (details_.size() >= mostDetails) details_.clear();
    auto detail = std::make_unique<Detail>();
    Workspace& read = workspace();
    const std::size_t first = k * chunk, last = std::min(points.size(), first + chunk + 1);
    read.read(points, first, last);
    for (std::size_t i = last - first; i <= chunk; ++i) {  // after the last point of all: lines of no length
        read.times[i] = read.times[last - first - 1];
        read.a[i] = read.a[last - first - 1];
        read.b[i] = read.b[last - first - 1];
    }
    for (std::size_t j = 0; j < chunk / fineSize; ++j) {
        Block& block = detail->fine[j];
        detail->starts[j] = read.times[j * fineSize];
        addPoints(&read.times[j * fineSize], &read.a[j * fineSize], &read.b[j * fineSize], fineSize, points.product(),
                  points.holds(), block);
        detail->middle[j / fan].add(block);
    }
    return *details_.emplace(k, std::move(detail)).first->second;
}

/// Whole chunks, from as few blocks as possible.
void Pyramid::addChunks(std::size_t first, std::size_t last, Block& sum) const {
    while (first < last) {
        std::size_t span = 1, level = 0;
        while (level + 1 < levels_.size() && first % (span * fan) == 0 && first + span * fan <= last &&
               first / (span * fan) < levels_[level + 1].size())
            span *= fan, ++level;
        sum.add(levels_[level][first / span]);
        first += span;
    }
}

/// Points of one chunk.
void Pyramid::addInside(const PointSource& points, std::size_t first, std::size_t last, Block& sum) {
    const std::size_t k = first / chunk;
    const bool useful = last - first > fineSize || details_.contains(k);
    const Detail* const detail = useful && k < complete() ? &detailOf(points, k) : nullptr;
    Workspace& read = workspace();
    const auto plain = [&](std::size_t from, std::size_t to) {
        if (from >= to) return;
        const bool end = to == points.size();
        read.read(points, from, end ? to : to + 1);
        addPoints(read.times.data(), read.a.data(), read.b.data(), to - from - (end ? 1 : 0), points.product(),
                  points.holds(), sum);
        if (end) sum.include(read.a[to - from - 1] * read.b[to - from - 1]);
    };
    if (!detail) return plain(first, last);
    const auto up = [](std::size_t i, std::size_t step) { return (i + step - 1) / step * step; };
    const std::size_t fineFirst = std::min(last, up(first, fineSize)),
                      fineLast = std::max(fineFirst, last / fineSize * fineSize);
    plain(first, fineFirst);
    for (std::size_t i = fineFirst; i < fineLast;) {
        const bool whole = i % middleSize == 0 && i + middleSize <= fineLast;
        sum.add(whole ? detail->middle[i % chunk / middleSize] : detail->fine[i % chunk / fineSize]);
        i += whole ? middleSize : fineSize;
    }
    plain(fineLast, last);
}

void Pyramid::add(const PointSource& points, std::size_t first, std::size_t last, Block& sum) {
    while (first < last) {
        const std::size_t k = first / chunk, end = std::min(last, (k + 1) * chunk);
        const std::size_t whole = std::min(last / chunk, complete());
        if (first % chunk == 0 && k < whole) {
            addChunks(k, whole, sum);
            first = whole * chunk;
        } else {
            addInside(points, first, end, sum);
            first = end;
        }
    }
}

void Pyramid::addNear(const PointSource& points, std::size_t first, std::size_t last, Block& sum) {
    while (first < last) {
        const std::size_t k = first / chunk, end = std::min(last, (k + 1) * chunk);
        if (detailed(k))
            add(points, first, end, sum);
        else
            sum.add(levels_[0][k]);
        // From the second chunk on whole ones need no details.
        first = end;
        const std::size_t whole = std::min(last / chunk, complete());
        if (first % chunk == 0 && first / chunk < whole) {
            addChunks(first / chunk, whole, sum);
            first = whole * chunk;
        }
    }
}

std::size_t Pyramid::near(const PointSource& points, Tick t) const {
    const std::size_t chunks = (points.size() + chunk - 1) / chunk;
    const std::size_t next = firstChunkFrom(points, chunks, t);
    if (next == 0) return 0;
    const std::size_t k = next - 1,
                      end = std::min(points.size(), next * chunk);  // the point lies in chunk k or is `end`
    const auto detail = details_.find(k);
    if (detail != details_.end()) {
        const auto& starts = detail->second->starts;
        const auto at = std::lower_bound(starts.begin(), starts.end(), t);
        return std::min(end, k * chunk + static_cast<std::size_t>(at - starts.begin()) * fineSize);
    }
    if (k < complete()) return end;
    for (std::size_t i = k * chunk; i < end; ++i)  // the last, incomplete chunk
        if (points.time(i) >= t) return i;
    return end;
}

}  // namespace hedgerow
