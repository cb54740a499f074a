#include "ledger/measured_run.h"

#include <cmath>

#include <fmt/format.h>

#include "base/text.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

using Data = std::shared_ptr<const MeasuredData>;

class MeasuredRun final : public RunRecord {
public:
    MeasuredRun(std::string name, Data data, ColumnPoints::Times times)
        : name_(std::move(name)), data_(std::move(data)), times_(std::move(times)) {
        summary_.end = RunEnd::finished;
        summary_.reached = times_->back();
        summary_.engine = "measured";
        for (const MeasuredData::Column& column : data_->columns)
            quantities_.push_back(
                {column.name, column.unit, column.logic ? QuantityInfo::Sort::conducting : QuantityInfo::Sort::linear});
    }

    const Data& data() const { return data_; }
    const Project& project() const override { return project_; }
    const std::string& plan() const override { return name_; }
    const std::string& scene() const override { return name_; }
    Tick end() const override { return times_->back(); }
    Tick reached() const override { return times_->back(); }
    const RunSummary& summary() const override { return summary_; }
    const std::vector<QuantityInfo>& quantities() const override { return quantities_; }
    const std::vector<RatingInfo>& ratings() const override { return ratings_; }
    std::size_t points() const override { return times_->size(); }
    std::size_t bytes() const override { return (data_->columns.size() + 1) * times_->size() * sizeof(double); }
    std::vector<std::pair<std::string, std::string>> provenance() const override { return {{"measured", name_}}; }

    std::unique_ptr<Trace> trace(std::string_view quantity, std::size_t) const override {
        for (const MeasuredData::Column& column : data_->columns)
            if (column.name == quantity)
                return std::make_unique<Trace>(
                    std::make_unique<ColumnPoints>(times_, column.values, std::vector<double>{}, column.logic,
                                                   !column.logic),
                    column.name, column.unit, column.logic);
        return nullptr;
    }

private:
    std::string name_;
    Data data_;
    ColumnPoints::Times times_;
    Project project_;
    RunSummary summary_;
    std::vector<QuantityInfo> quantities_;
    std::vector<RatingInfo> ratings_;
};

Result<std::shared_ptr<RunRecord>> placed(const std::string& name, Data data, double offset, double scale) {
    auto times = std::make_shared<std::vector<Tick>>();
    for (const double t : data->times) {
        const double moved = t * scale + offset;
        if (!(std::abs(moved) <= longestRunSeconds))
            return Error{ErrorCode::range,
                         fmt::format("{}: the time {} s is beyond {} s", name, moved, longestRunSeconds)};
        times->push_back(toTicks(moved));
    }
    return std::shared_ptr<RunRecord>(std::make_shared<MeasuredRun>(name, std::move(data), std::move(times)));
}

}  // namespace

Result<std::shared_ptr<RunRecord>> retimed(const RunRecord& measured, double offset, double scale) {
    const auto& run = dynamic_cast<const MeasuredRun&>(measured);
    return placed(run.plan(), run.data(), offset, scale);
}

Result<std::shared_ptr<RunRecord>> openMeasured(const std::filesystem::path& path, double offset, double scale) {
    const std::string extension = lowerCase(path.extension().string());
    std::vector<std::string> known;
    for (const auto& format : traceFormats()) {
        known.emplace_back(format->extension());
        if (format->extension() != extension) continue;
        auto data = format->read(path);
        if (!data) {
            Error error = data.error();
            const std::string file = path.filename().string();
            if (error.message.find(file) == std::string::npos) error.message = file + ": " + error.message;
            return error;
        }
        if (data->times.size() < 2 || data->columns.empty())
            return Error{ErrorCode::file, path.filename().string() + ": there is nothing to show in it"};
        return placed(path.filename().string(), std::make_shared<const MeasuredData>(std::move(*data)), offset, scale);
    }
    return Error{ErrorCode::file, fmt::format("{}: the ending says no known format; known are {}",
                                              path.filename().string(), listed(known))};
}

}  // namespace hedgerow
