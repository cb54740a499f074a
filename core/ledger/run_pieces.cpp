#include "ledger/run_pieces.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"

namespace hedgerow {

namespace {

constexpr std::size_t chunkSize = PointChunk::size;
constexpr std::size_t keptBytes = std::size_t{256} << 20;  ///< of chunks in memory, for each run

std::size_t widthOf(const RowView& view, int unknowns) {
    return static_cast<std::size_t>(view.matrix.empty() ? unknowns : view.width);
}

/// The points of one chunk, as columns.
struct Columns {
    std::vector<Tick> ticks;
    std::vector<std::uint32_t> views, sets;                       ///< of each point; the set within its chunk
    std::vector<double> numbers, signalValues;                    ///< rows, and sets of signals
    std::vector<std::uint32_t> rowStarts = {0}, setStarts = {0};  ///< where those of each chunk begin, and the end
};

void addChunk(const PointChunk& chunk, std::size_t count, const PieceContent& content, const PointStore::Views& views,
              Columns& out) {
    const double* lastSet = nullptr;
    std::map<const double*, std::uint32_t> known;
    std::uint32_t set = 0;
    for (std::size_t i = 0; i < count; ++i) {
        out.ticks.push_back(chunk.times[i]);
        out.views.push_back(chunk.views[i]);
        out.numbers.insert(out.numbers.end(), chunk.rows[i],
                           chunk.rows[i] + widthOf(*views[chunk.views[i]], content.unknowns));
        if (chunk.signalValues[i] != lastSet || i == 0) {
            lastSet = chunk.signalValues[i];
            const auto [place, added] = known.emplace(lastSet, static_cast<std::uint32_t>(known.size()));
            set = place->second;
            if (added) out.signalValues.insert(out.signalValues.end(), lastSet, lastSet + content.signalCount);
        }
        out.sets.push_back(set);
    }
    out.rowStarts.push_back(static_cast<std::uint32_t>(out.numbers.size()));
    out.setStarts.push_back(out.setStarts.back() + static_cast<std::uint32_t>(known.size()));
}

}  // namespace

std::string pieceFile(std::size_t number) { return fmt::format("points-{:05}.h5", number); }

std::vector<double> packed(std::span<const std::shared_ptr<const RowView>> views) {
    std::vector<double> numbers;
    for (const auto& view : views) {
        numbers.insert(numbers.end(), {static_cast<double>(view->width), static_cast<double>(view->matrix.size()),
                                       static_cast<double>(view->conducting.size())});
        numbers.insert(numbers.end(), view->matrix.begin(), view->matrix.end());
        numbers.insert(numbers.end(), view->conducting.begin(), view->conducting.end());
    }
    return numbers;
}

std::optional<PointStore::Views> unpackedViews(std::span<const double> numbers) {
    constexpr std::size_t mostViews = 200'000;  // each takes more memory than the three numbers it may be written with
    PointStore::Views views;
    while (!numbers.empty()) {
        if (numbers.size() < 3 || views.size() >= mostViews) return {};
        const double width = numbers[0], matrix = numbers[1], conducting = numbers[2];
        numbers = numbers.subspan(3);
        const auto fits = [&](double size) { return size >= 0 && size <= static_cast<double>(numbers.size()); };
        if (!(width >= 0 && width < 1e9) || !fits(matrix) || !fits(conducting) || !fits(matrix + conducting)) return {};
        auto view = std::make_shared<RowView>();
        view->width = static_cast<int>(width);
        const auto take = [&](double size, auto& into) {
            for (const double value : numbers.first(static_cast<std::size_t>(size)))
                into.push_back(static_cast<typename std::remove_reference_t<decltype(into)>::value_type>(value));
            numbers = numbers.subspan(static_cast<std::size_t>(size));
        };
        take(matrix, view->matrix);
        for (const double value : numbers.first(static_cast<std::size_t>(conducting)))
            if (value != 0 && value != 1) return {};
        take(conducting, view->conducting);
        views.push_back(std::move(view));
    }
    return views;
}

std::vector<double> packed(std::span<const Block> blocks) {
    std::vector<double> numbers;
    numbers.reserve(4 * blocks.size());
    for (const Block& block : blocks)
        numbers.insert(numbers.end(), {block.min, block.max, block.integral, block.squares});
    return numbers;
}

std::vector<Block> unpackedBlocks(std::span<const double> numbers) {
    std::vector<Block> blocks;
    for (std::size_t i = 0; i + 3 < numbers.size(); i += 4)
        blocks.push_back({.min = numbers[i], .max = numbers[i + 1], .integral = numbers[i + 2], .squares = numbers[i + 3]});
    return blocks;
}

std::vector<double> coveredOf(std::span<const Block> blocks) {
    std::vector<double> seconds;
    seconds.reserve(blocks.size());
    for (const Block& block : blocks) seconds.push_back(block.seconds);
    return seconds;
}

void setCovered(std::span<Block> blocks, const std::optional<std::vector<double>>& seconds, std::span<const Tick> starts,
                Tick end) {
    const bool known = seconds && seconds->size() == blocks.size();
    for (std::size_t i = 0; i < blocks.size(); ++i) {
        if (known) {
            blocks[i].seconds = (*seconds)[i];
            continue;
        }
        const std::size_t k = i % std::max<std::size_t>(1, starts.size());
        if (k < starts.size()) blocks[i].seconds = toSeconds((k + 1 < starts.size() ? starts[k + 1] : end) - starts[k]);
    }
}

Status writePiece(const PieceContent& content, const OpenFolder& folder, std::size_t number) {
    Columns columns;
    const PointStore::Views views = content.store.views();
    for (std::size_t done = 0; done < content.count; done += chunkSize)
        addChunk(*content.store.chunk((content.first + done) / chunkSize), std::min(chunkSize, content.count - done),
                 content, views, columns);
    return replaceAtomically(folder, pieceFile(number), [&](const std::filesystem::path& temporary) -> Status {
        const auto held = hdf5::lock();
        hdf5::Handle file(hdf5::createFile(temporary.string()), H5Fclose);
        const bool good = file.good() && hdf5::writeTicks(file, "ticks", columns.ticks) &&
                          hdf5::writeCounts(file, "view", columns.views) &&
                          hdf5::writeCounts(file, "set", columns.sets) &&
                          hdf5::writeColumn(file, "numbers", columns.numbers) &&
                          hdf5::writeColumn(file, "signals", columns.signalValues) &&
                          hdf5::writeCounts(file, "row_starts", columns.rowStarts) &&
                          hdf5::writeCounts(file, "set_starts", columns.setStarts) &&
                          hdf5::writeColumn(file, "views", packed(content.views)) &&
                          hdf5::writeColumn(file, "blocks", packed(content.blocks)) &&
                          hdf5::writeColumn(file, "covered", coveredOf(content.blocks)) &&
                          H5Fflush(file, H5F_SCOPE_GLOBAL) >= 0 && file.close();
        if (good) return {};
        return Error{ErrorCode::file, (folder.path() / pieceFile(number)).string() + " cannot be written: the disk may be full"};
    });
}

std::optional<PieceHead> readPieceHead(const OpenFolder& folder, std::size_t number) {
    const auto held = hdf5::lock();
    const hdf5::Handle file(hdf5::openFile(folder, pieceFile(number)), H5Fclose);
    if (!file.good()) return {};
    const auto ticks = hdf5::readTicks(file, "ticks");
    const auto views = hdf5::readColumn(file, "views"), blocks = hdf5::readColumn(file, "blocks");
    if (!ticks || ticks->empty() || !views || !blocks) return {};
    auto unpacked = unpackedViews(*views);
    if (!unpacked) return {};
    PieceHead head{{}, ticks->size(), ticks->back(), std::move(*unpacked), unpackedBlocks(*blocks)};
    for (std::size_t i = 0; i < ticks->size(); i += chunkSize) head.starts.push_back((*ticks)[i]);
    setCovered(head.blocks, hdf5::readColumn(file, "covered"), head.starts, head.last);
    return head;
}

std::optional<std::size_t> pointsOfPiece(const OpenFolder& folder, std::size_t number) {
    const auto held = hdf5::lock();
    const hdf5::Handle file(hdf5::openFile(folder, pieceFile(number)), H5Fclose);
    return file.good() ? hdf5::lengthOf(file, "ticks") : std::nullopt;
}

// ---- reading

PiecePoints::PiecePoints(OpenFolder folder, std::vector<std::size_t> pieces, std::vector<Tick> starts,
                         Views views, int unknowns, std::size_t signalCount)
    : folder_(std::move(folder)),
      starts_(std::move(starts)),
      views_(std::move(views)),
      unknowns_(unknowns),
      signalCount_(signalCount) {
    for (const std::size_t points : pieces) {
        firstChunks_.push_back(count_ / chunkSize);
        count_ += points;
    }
    starts_.resize((count_ + chunkSize - 1) / chunkSize);
}

std::size_t PiecePoints::bytes() const {
    const std::lock_guard lock(mutex_);
    return bytes_;
}

std::shared_ptr<const PointChunk> PiecePoints::chunk(std::size_t k) const {
    const auto size = [](const PointChunk& chunk) { return sizeof chunk + chunk.numbers.size() * sizeof(double); };
    {
        const std::lock_guard lock(mutex_);
        if (const auto known = places_.find(k); known != places_.end()) {
            recent_.splice(recent_.begin(), recent_, known->second);
            return recent_.front().second;
        }
    }
    ChunkPointer chunk = read(k);
    if (!chunk) return unreadable(k);
    const std::lock_guard lock(mutex_);
    if (!places_.contains(k)) {
        recent_.emplace_front(k, chunk);
        places_[k] = recent_.begin();
        bytes_ += size(*chunk);
    }
    while (bytes_ > keptBytes && recent_.size() > 1) {
        bytes_ -= size(*recent_.back().second);
        places_.erase(recent_.back().first);
        recent_.pop_back();
    }
    return chunk;
}

std::shared_ptr<const PointChunk> PiecePoints::read(std::size_t k) const {
    const auto after = std::upper_bound(firstChunks_.begin(), firstChunks_.end(), k);
    const auto piece = static_cast<std::size_t>(after - firstChunks_.begin()) - 1;
    const std::size_t inside = k - firstChunks_[piece], count = std::min(chunkSize, count_ - k * chunkSize);
    std::optional<std::vector<Tick>> ticks;
    std::optional<std::vector<std::uint32_t>> views, sets, rowEnds, setEnds;
    std::optional<std::vector<double>> rows, values;
    {
        const auto held = hdf5::lock();
        const hdf5::Handle file(hdf5::openFile(folder_, pieceFile(piece)), H5Fclose);
        if (!file.good()) return nullptr;
        const std::size_t first = inside * chunkSize;
        ticks = hdf5::readTicks(file, "ticks", first, count);
        views = hdf5::readCounts(file, "view", first, count);
        sets = hdf5::readCounts(file, "set", first, count);
        rowEnds = hdf5::readCounts(file, "row_starts", inside, 2);
        setEnds = hdf5::readCounts(file, "set_starts", inside, 2);
        if (!ticks || !views || !sets || !rowEnds || !setEnds || (*rowEnds)[1] < (*rowEnds)[0] ||
            (*setEnds)[1] < (*setEnds)[0])
            return nullptr;
        rows = hdf5::readColumn(file, "numbers", (*rowEnds)[0], (*rowEnds)[1] - (*rowEnds)[0]);
        values = hdf5::readColumn(file, "signals", (*setEnds)[0] * signalCount_,
                                  ((*setEnds)[1] - (*setEnds)[0]) * signalCount_);
    }
    if (!rows || !values || ticks->front() != starts_[k]) return nullptr;
    auto chunk = std::make_shared_for_overwrite<PointChunk>();
    chunk->numbers = std::move(*rows);
    const std::size_t rowsEnd = chunk->numbers.size();
    chunk->numbers.insert(chunk->numbers.end(), values->begin(), values->end());
    std::size_t row = 0;
    for (std::size_t i = 0; i < count; ++i) {
        const std::uint32_t view = (*views)[i], set = (*sets)[i];
        if (view >= views_.size() || set >= (*setEnds)[1] - (*setEnds)[0]) return nullptr;
        const std::size_t width = widthOf(*views_[view], unknowns_);
        if (row + width > rowsEnd || (i > 0 && (*ticks)[i] < (*ticks)[i - 1])) return nullptr;
        chunk->times[i] = (*ticks)[i];
        chunk->views[i] = view;
        chunk->rows[i] = chunk->numbers.data() + row;
        chunk->signalValues[i] = chunk->numbers.data() + rowsEnd + set * signalCount_;
        row += width;
    }
    return chunk;
}

/// What stands for a chunk that is gone or damaged.
std::shared_ptr<const PointChunk> PiecePoints::unreadable(std::size_t k) const {
    std::size_t most = signalCount_;
    for (const auto& view : views_) most = std::max(most, widthOf(*view, unknowns_));
    auto chunk = std::make_shared_for_overwrite<PointChunk>();
    chunk->numbers.assign(std::max<std::size_t>(1, most), std::numeric_limits<double>::quiet_NaN());
    chunk->times.fill(starts_[k]);
    chunk->views.fill(0);
    chunk->rows.fill(chunk->numbers.data());
    chunk->signalValues.fill(chunk->numbers.data());
    return chunk;
}

}  // namespace hedgerow
