#include "ledger/run_writer.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>
#include <algorithm>
#include <cctype>

#include <fmt/format.h>

#include "formats/file.h"
#include "runs/run_about.h"
#include "ledger/run_file.h"
#include "ledger/run_pieces.h"

namespace hedgerow {

namespace {
constexpr std::size_t chunkSize = PointChunk::size;
constexpr std::size_t mostChunks = 256, mostNumbers = std::size_t{1} << 24;  ///< of a piece
constexpr char holdName[] = "writing";
constexpr double dueShare = 0.05;  ///< pieces come at least so far apart, as a share of the time so far
}  // namespace

FolderHold::FolderHold(OpenFolder folder)
    : folder_(std::move(folder)),
      file_(::openat(folder_.descriptor(), holdName, O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK, 0666)) {
    if (file_ && ::flock(file_.get(), LOCK_EX | LOCK_NB) != 0) file_ = Descriptor();
}

FolderHold::~FolderHold() {
    if (file_) (void)folder_.removeFile(holdName);
}

RunWriter::RunWriter(const Run& run, OpenFolder folder, double every)
    : run_(run), folder_(std::move(folder)), hold_(std::make_unique<FolderHold>(folder_)), blocks_(run.quantities().size()), every_(every), due_(every) {
    for (const QuantityInfo& quantity : run.quantities())
        traces_.push_back(std::make_unique<Trace>(run.storePointer(), quantity, run.layout()));
}

Status RunWriter::begin() {
    if (begun_) return {};
    if (!hold_->good()) hold_ = std::make_unique<FolderHold>(folder_);  // what failed is tried again
    if (!hold_->good()) {
        return Error{ErrorCode::file, folder_.path().string() + " cannot be written"};
    }
    auto written = writeRunHead(folder_, aboutOf(run_, false), {});
    begun_ = static_cast<bool>(written);
    return written;
}

/// Points that are worth a piece: of wide circuits fewer, since a piece is put together in memory.
std::size_t RunWriter::pieceSize() const {
    std::size_t width = 1;
    for (const auto& view : run_.store().views())
        width = std::max(width, static_cast<std::size_t>(view->matrix.empty() ? run_.layout().unknowns : view->width));
    return std::clamp<std::size_t>(mostNumbers / (width * chunkSize), 1, mostChunks) * chunkSize;
}

Status RunWriter::follow() {
    const std::size_t count = run_.points();
    const std::size_t complete = count == 0 ? 0 : (count - 1) / chunkSize * chunkSize;
    const std::size_t pieceSize = this->pieceSize();
    const bool due = sinceStart_.seconds() > due_;
    while (complete - written_ >= pieceSize || (due && complete > written_))
        if (auto status = write(std::min(pieceSize, complete - written_), false); !status) return status;
    return {};
}

Status RunWriter::write(std::size_t count, bool last) {
    if (auto status = begin(); !status) return status;
    const PointStore::Views views = run_.store().views();
    const std::size_t chunks = (count + chunkSize - 1) / chunkSize;
    std::vector<Block> fresh;
    for (const auto& trace : traces_) {
        trace->update();
        for (std::size_t first = written_; first < written_ + count; first += chunkSize)
            fresh.push_back(trace->sum(first, std::min(first + chunkSize, written_ + count)));
    }
    const PieceContent content{run_.store(),
                               written_,
                               count,
                               run_.layout().unknowns,
                               run_.store().signalCount(),
                               std::span(views).subspan(views_),
                               fresh};
    if (auto status = writePiece(content, folder_, pieces_.size()); !status) return status;
    for (std::size_t q = 0; q < blocks_.size(); ++q) {
        const auto first = fresh.begin() + static_cast<std::ptrdiff_t>(q * chunks);
        blocks_[q].insert(blocks_[q].end(), first, first + static_cast<std::ptrdiff_t>(chunks));
    }
    views_ = views.size();
    written_ += count;
    pieces_.push_back(count);
    if (!last) due_ = sinceStart_.seconds() + std::max(every_, dueShare * sinceStart_.seconds());
    return {};
}

Status RunWriter::finish() {
    const std::size_t count = run_.points();
    if (count == 0) return Error{ErrorCode::resource, "it has no points"};
    while (written_ < count)
        if (auto status = write(std::min(pieceSize(), count - written_), true); !status) return status;
    RunPoints points;
    points.pieces = pieces_;
    points.views = run_.store().views();
    run_.store().addStarts(points.starts);
    for (const auto& blocks : blocks_) points.blocks.insert(points.blocks.end(), blocks.begin(), blocks.end());
    RunAbout about = aboutOf(run_, true);
    for (const auto& trace : traces_) about.logic.push_back(trace->logic());
    if (auto status = writeRunHead(folder_, about, points); !status) return status;
    hold_.reset();
    return {};
}

Result<bool> mendRunFolder(const OpenFolder& folder) {
    if (isHeld(folder)) return false;  // another window writes it
    RunAbout about;
    auto points = readRunHead(folder, about);
    if (!points) return points.error();
    if (!points->pieces.empty()) return true;
    const FolderHold hold(folder);
    if (!hold.good()) return false;
    std::vector<std::vector<Block>> blocks(about.quantities.size());
    for (std::size_t number = 0;; ++number) {
        const auto piece = readPieceHead(folder, number);
        const std::size_t chunks = piece ? piece->starts.size() : 0;
        if (!piece || piece->blocks.size() != blocks.size() * chunks) break;
        points->pieces.push_back(piece->points);
        points->starts.insert(points->starts.end(), piece->starts.begin(), piece->starts.end());
        points->views.insert(points->views.end(), piece->views.begin(), piece->views.end());
        for (std::size_t q = 0; q < blocks.size(); ++q)
            for (std::size_t k = 0; k < chunks; ++k) blocks[q].push_back(piece->blocks[q * chunks + k]);
        about.summary.reached = piece->last;
    }
    if (points->pieces.empty()) return false;  // it broke off before anything was worth keeping
    for (const auto& some : blocks) points->blocks.insert(points->blocks.end(), some.begin(), some.end());
    if (auto status = writeRunHead(folder, about, *points); !status) return status.error();
    return true;
}

bool isHeld(const OpenFolder& folder) {
    if (folder.entry(holdName) != OpenFolder::Entry::file) return false;
    const Descriptor file(::openat(folder.descriptor(), holdName, O_RDWR | O_CLOEXEC | O_NOFOLLOW));
    return file && ::flock(file.get(), LOCK_EX | LOCK_NB) != 0;
}

bool isRunName(std::string_view name) {
    constexpr std::size_t longest = 100;
    return name.starts_with("run-") && name.size() > 4 && name.size() <= longest &&
           std::all_of(name.begin(), name.end(), [](unsigned char c) { return std::isalnum(c) || c == '-' || c == ':'; });
}

Status removeRunFolder(const OpenFolder& ledger, const std::string& name) {
    if (!isRunName(name)) return Error{ErrorCode::file, "'" + name + "' is no kept run: it is left alone"};
    auto folder = ledger.folder(name);
    if (!folder) return folder.error();
    const auto ours = [](std::string_view file) {
        const auto base = [&](std::string_view target) { return file == target || isHalfWritten(file, target); };
        constexpr std::string_view piece = "points-", ending = ".h5";
        const std::string_view whole = file.substr(0, std::min(file.size(), file.find(ending) + ending.size()));
        const bool numbered = whole.starts_with(piece) && whole.ends_with(ending) &&
                              whole.size() > piece.size() + ending.size() &&
                              whole.find_first_not_of("0123456789", piece.size()) == whole.size() - ending.size();
        return base("run.h5") || file == holdName || (numbered && base(whole));
    };
    Status first;
    for (const std::string& file : folder->names())
        if (ours(file) && folder->entry(file) != OpenFolder::Entry::folder)
            if (auto removed = folder->removeFile(file); !removed && first) first = removed;
    if (!first) return first;
    return ledger.removeFolder(name);
}

}  // namespace hedgerow
