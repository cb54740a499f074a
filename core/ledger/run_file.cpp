#include "ledger/run_file.h"

#include <fmt/format.h>

#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "formats/hedge/hedge.h"
#include "model/quantity.h"
#include "ledger/run_pieces.h"

namespace hedgerow {

namespace {

constexpr int runFileVersion = 2;
constexpr std::size_t chunkSize = PointChunk::size;
constexpr char headName[] = "run.h5";

Error fault(const OpenFolder& folder, std::string_view what) {
    return {ErrorCode::file, fmt::format("{}: {}", folder.path().filename().string(), what)};
}

/// A kept run whose points stay on disk.
class KeptRecord final : public RunRecord {
public:
    KeptRecord(OpenFolder folder, RunAbout about, Project project, RunPoints points, std::size_t allChunks)
        : folder_(std::move(folder)), about_(std::move(about)), project_(std::move(project)), allChunks_(allChunks) {
        store_ = std::make_shared<PiecePoints>(folder_, points.pieces, std::move(points.starts),
                                               std::move(points.views), about_.layout.unknowns, about_.signalCount);
    }

    const Project& project() const override { return project_; }
    const std::string& plan() const override { return about_.plan; }
    const std::string& scene() const override { return about_.scene; }
    Tick end() const override { return about_.end; }
    Tick reached() const override { return about_.summary.reached; }
    const RunSummary& summary() const override { return about_.summary; }
    const std::vector<QuantityInfo>& quantities() const override { return about_.quantities; }
    const std::vector<RatingInfo>& ratings() const override { return about_.ratings; }
    std::size_t points() const override { return store_->count(); }
    std::size_t bytes() const override { return store_->bytes(); }
    std::vector<std::pair<std::string, std::string>> provenance() const override { return about_.provenance; }

    std::unique_ptr<Trace> trace(std::string_view name, std::size_t) const override {
        const QuantityInfo* const info = findQuantity(name);
        if (!info) return nullptr;
        const auto index = static_cast<std::size_t>(info - about_.quantities.data());
        auto digest = digestOf(index);
        if (!digest) return nullptr;
        auto points = std::make_unique<StorePoints>(store_, *info, about_.layout, std::move(*digest));
        points->update(SIZE_MAX);
        return std::make_unique<Trace>(std::move(points), info->name, info->unit);
    }

private:
    std::optional<PointSource::Digest> digestOf(std::size_t quantity) const {
        const auto held = hdf5::lock();
        const hdf5::Handle file(hdf5::openFile(folder_, headName), H5Fclose);
        if (!file.good()) return {};
        const std::size_t chunks = (store_->count() + chunkSize - 1) / chunkSize;
        const auto numbers = hdf5::readColumn(file, "blocks", 4 * quantity * allChunks_, 4 * chunks);
        if (!numbers) return {};
        PointSource::Digest digest{unpackedBlocks(*numbers), about_.logic[quantity]};
        std::vector<Tick> starts;
        store_->addStarts(starts);
        setCovered(digest.blocks, hdf5::readColumn(file, "covered", quantity * allChunks_, chunks), starts,
                   about_.summary.reached);
        return digest;
    }

    OpenFolder folder_;
    RunAbout about_;
    Project project_;
    std::size_t allChunks_;  ///< that the head knows, readable or not
    std::shared_ptr<PiecePoints> store_;
};

/// Leaves out what lies behind a piece that is missing or damaged.
void cutAtDamage(const OpenFolder& folder, RunAbout& about, RunPoints& points) {
    for (std::size_t number = 0; number < points.pieces.size(); ++number) {
        const auto there = pointsOfPiece(folder, number);
        if (there && *there == points.pieces[number]) continue;
        points.pieces.resize(number);
        std::size_t count = 0;
        for (const std::size_t some : points.pieces) count += some;
        const Tick reached = count == 0 ? 0 : points.starts[count / chunkSize];
        points.starts.resize(count / chunkSize);
        about.summary.end = RunEnd::failed;
        about.summary.reached = reached;
        about.summary.error =
            Error{ErrorCode::file,
                  fmt::format("{} is missing or damaged: the run can be read up to {}",
                              pieceFile(number), formatQuantity(toSeconds(reached), "s"))};
        return;
    }
}

}  // namespace

Status writeRunHead(const OpenFolder& folder, const RunAbout& about, const RunPoints& points) {
    return replaceAtomically(folder, headName, [&](const std::filesystem::path& temporary) -> Status {
        const auto held = hdf5::lock();
        hdf5::Handle file(hdf5::createFile(temporary.string()), H5Fclose);
        bool good = file.good() && hdf5::writeAttribute(file, "hedgerow run", std::to_string(runFileVersion));
        for (const auto& [key, text] : about.provenance) good = good && hdf5::writeAttribute(file, key, text);
        const std::vector<std::uint32_t> pieces(points.pieces.begin(), points.pieces.end());
        good = good && hdf5::writeText(file, "project", about.project) &&
               hdf5::writeText(file, "run", writeAbout(about)) && hdf5::writeCounts(file, "pieces", pieces) &&
               hdf5::writeTicks(file, "starts", points.starts) &&
               hdf5::writeColumn(file, "views", packed(points.views)) &&
               hdf5::writeColumn(file, "blocks", packed(points.blocks)) &&
               hdf5::writeColumn(file, "covered", coveredOf(points.blocks)) && H5Fflush(file, H5F_SCOPE_GLOBAL) >= 0 &&
               file.close();
        if (good) return {};
        return Error{ErrorCode::file, folder.path().string() + " cannot be written: the disk may be full"};
    });
}

Result<RunPoints> readRunHead(const OpenFolder& folder, RunAbout& about) {
    const auto held = hdf5::lock();
    const hdf5::Handle file(hdf5::openFile(folder, headName), H5Fclose);
    if (!file.good()) return fault(folder, "this is no readable run: the file run.h5 is missing or damaged");
    const auto version = hdf5::readAttribute(file, "hedgerow run");
    if (!version) return fault(folder, "run.h5 is HDF5, but no run");
    if (*version != std::to_string(runFileVersion)) return fault(folder, "this run was kept by another version");
    auto project = hdf5::readText(file, "project");
    const auto text = hdf5::readText(file, "run");
    const auto pieces = hdf5::readCounts(file, "pieces");
    auto starts = hdf5::readTicks(file, "starts");
    // A file of a few bytes may claim any number of zeros.
    constexpr std::size_t mostNumbers = std::size_t{1} << 26;
    for (const char* column : {"views", "starts", "pieces"})
        if (const auto length = hdf5::lengthOf(file, column); length && *length >= mostNumbers / 2)
            return fault(folder, fmt::format("this run takes more memory than it may: {} numbers in its head", *length));
    const auto numbers = hdf5::readColumn(file, "views");
    auto views = numbers ? unpackedViews(*numbers) : std::nullopt;
    if (!project || !text || !pieces || !starts || !views)
        return fault(folder, "this run is damaged: parts of it are missing");
    if (auto status = readAbout(*text, about); !status) return fault(folder, status.error().message);
    about.project = std::move(*project);
    std::size_t count = 0;
    for (std::size_t i = 0; i < pieces->size(); ++i) {
        if (i + 1 < pieces->size() && (*pieces)[i] % chunkSize != 0)
            return fault(folder, "this run is damaged: its pieces do not fit");
        count += (*pieces)[i];
    }
    if (!pieces->empty() && starts->size() != (count + chunkSize - 1) / chunkSize)
        return fault(folder, "this run is damaged: its pieces do not fit");
    if (!std::is_sorted(starts->begin(), starts->end()))
        return fault(folder, "this run is damaged: its instants do not rise");
    const auto unknowns = static_cast<std::size_t>(about.layout.unknowns);
    for (const auto& view : *views)
        if ((!view->matrix.empty() && view->matrix.size() != unknowns * (static_cast<std::size_t>(view->width) + 1)) ||
            view->conducting.size() != about.layout.switching.size())
            return fault(folder, "this run is damaged: its rows do not fit");
    return RunPoints{{pieces->begin(), pieces->end()}, std::move(*starts), std::move(*views), {}};
}

Result<std::shared_ptr<RunRecord>> openRunFolder(const OpenFolder& folder) {
    RunAbout about;
    auto points = readRunHead(folder, about);
    if (!points) return points.error();
    if (points->pieces.empty()) return fault(folder, "this run is still being written, or has no points");
    auto loaded = readHedge(about.project);
    if (!loaded) return fault(folder, "this run is damaged: its project cannot be read");
    const std::size_t chunks = points->starts.size();
    cutAtDamage(folder, about, *points);
    if (points->pieces.empty()) return fault(folder, "this run is damaged: its points are missing");
    return std::shared_ptr<RunRecord>(
        std::make_shared<KeptRecord>(folder, std::move(about), std::move(loaded->project), std::move(*points), chunks));
}

}  // namespace hedgerow
