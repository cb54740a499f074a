// Spectra of quantities over what is measured: all that is seen, or what lies between the cursors.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <QPainter>

#include "model/quantity.h"
#include "base/background.h"
#include "style/theme.h"
#include "timeline/columns.h"
#include "timeline/lane_view.h"
#include "traces/limit_line.h"
#include "traces/spectrum.h"

namespace hedgerow::app {

namespace {

constexpr std::size_t mostWaitedFor = 200'000;  ///< points that are looked at while the window waits
constexpr double standardLines = 4096, mostLines = 1 << 20;
constexpr std::size_t shownPeaks = 12;
constexpr double shownDecades = 5, shownDecibels = 110;

class SpectrumLane : public LaneView {
public:
    SpectrumLane(const LaneSource& source, const Lane& lane);
    bool overTime() const override { return false; }
    void follow(double from, double to) override;
    void settle() override;
    QString readings() const override;

protected:
    void paintReading(QPainter& painter, std::size_t row, int width, int y) const override;
    QString notice() const override { return notice_; }

private:
    struct Line {
        QCPGraph* graph;
        std::string quantity;
        RunPointer entry;  ///< nullptr for the shown run
    };
    /// What is to be transformed, for any thread.
    struct Question {
        std::vector<std::shared_ptr<const Trace>> traces;  ///< by line; null where there is none
        Tick from, to;
        SpectrumWindow window;
        std::size_t lines;
    };
    std::optional<Question> question();
    static std::vector<std::optional<Spectrum>> answer(const Question& asked, const CancelToken& cancel);
    void show(const std::vector<std::optional<Spectrum>>& spectra);
    double level(double peak) const { return lane_.spectrum.decibel ? decibelMicrovolts(peak) : peak; }
    void fit(double step, double highest, double greatest);
    std::size_t peaksPerRow() const;

    std::vector<Line> lines_;
    QCPGraph* limitGraph_ = nullptr;
    std::optional<LimitLine> limit_;
    /// What is read off the spectra of the shown run, by row.
    struct Found {
        std::vector<std::pair<double, double>> peaks;    ///< frequency, level
        std::optional<std::pair<double, double>> worst;  ///< frequency, and by how much it is above the limit
    };
    std::vector<Found> found_;
    QString notice_;
    Background background_;
};

SpectrumLane::SpectrumLane(const LaneSource& source, const Lane& lane)
    : LaneView(source, lane), found_(lane.quantities.size()) {
    if (lane.spectrum.decibel) {
        unit_ = "dBµV";
    } else {
        y().setScaleType(QCPAxis::stLogarithmic);
        y().setTicker(QSharedPointer<DecadeTicker>::create());
    }
    x().setScaleType(QCPAxis::stLogarithmic);
    x().setTicker(QSharedPointer<DecadeTicker>::create());
    showOwnAxis();
    for (std::size_t i = 0; i < lane.quantities.size(); ++i) {
        const auto add = [&](const QPen& pen, RunPointer entry) {
            auto* graph = new QCPGraph(&x(), &y());
            graph->setPen(pen);
            graph->setAdaptiveSampling(true);
            lines_.push_back({graph, lane.quantities[i], std::move(entry)});
        };
        for (std::size_t k = 0; k < source.beside.size(); ++k) add(penBeside(i, k), source.beside[k]);
        QPen pen = penOf(i);
        pen.setWidthF(1.1);
        add(pen, nullptr);
    }
    if (lane.spectrum.limit.empty()) return;
    if (auto limit = LimitLine::read(lane.spectrum.limit)) {
        limit_ = std::move(*limit);
        limitGraph_ = new QCPGraph(&x(), &y());
        limitGraph_->setPen(QPen(colours().haw, 1.4, Qt::DashDotLine));
        for (const auto& [frequency, value] : limit_->points()) limitGraph_->addData(frequency, value);
    }
}

void SpectrumLane::follow(double, double) {}

/// Over whole periods of the fundamental when one is given.
std::optional<SpectrumLane::Question> SpectrumLane::question() {
    const SpectrumLook& look = lane_.spectrum;
    const auto parameter = source_.workspace.parameters().lookup();
    const auto hertz = [&](const std::string& text) -> double {
        const auto value = evaluateField(text, *findUnit("Hz"), parameter);
        return value && *value > 0 ? *value : 0;
    };
    const std::pair<Tick, Tick> span = source_.workspace.measured();
    double from = toSeconds(span.first);
    const double to = toSeconds(span.second);
    SpectrumWindow window = SpectrumWindow::hann;
    for (const auto& [name, kind] : spectrumWindows())
        if (name == look.window) window = kind;
    if (!look.fundamental.empty()) {
        const double f = hertz(look.fundamental);
        if (f == 0) return notice_ = "the fundamental cannot be read", std::nullopt;
        const double periods = std::floor((to - from) * f * (1 + 1e-9));
        if (periods < 1) return notice_ = "not one period of the fundamental lies in the window", std::nullopt;
        from = to - periods / f;
        window = SpectrumWindow::rectangular;
    }
    const double highest = look.highest.empty() ? 0 : hertz(look.highest);
    const double lines = highest > 0 ? std::clamp(highest * (to - from), 16.0, mostLines) : standardLines;
    Question asked{{}, toTicks(from), toTicks(to), window, static_cast<std::size_t>(lines)};
    for (const Line& line : lines_) {
        const RunPointer& entry = line.entry ? line.entry : source_.workspace.shownRun();
        asked.traces.push_back(entry ? source_.workspace.runList().sharedTrace(*entry, line.quantity) : nullptr);
    }
    return asked;
}

std::vector<std::optional<Spectrum>> SpectrumLane::answer(const Question& asked, const CancelToken& cancel) {
    std::vector<std::optional<Spectrum>> found;
    for (const auto& trace : asked.traces)
        found.push_back(trace ? spectrum(*trace, asked.from, asked.to, asked.window, asked.lines, cancel)
                              : std::nullopt);
    return found;
}

/// Transforms beside the window when there is much to transform.
void SpectrumLane::settle() {
    notice_.clear();
    auto asked = question();
    if (!asked) {
        background_.drop();
        return show(std::vector<std::optional<Spectrum>>(lines_.size()));
    }
    std::size_t points = 0;
    for (const auto& trace : asked->traces)
        if (trace) points += trace->firstAtOrAfter(asked->to) - trace->firstAtOrAfter(asked->from);
    if (points <= mostWaitedFor) {
        background_.drop();
        return show(answer(*asked, {}));
    }
    notice_ = QString("transforming %L1 points …").arg(points);
    for (auto& trace : asked->traces)
        if (trace) trace = trace->another();
    background_.start([this, asked = std::move(*asked)](const CancelToken& cancel) -> std::function<void()> {
        return [this, found = answer(asked, cancel)] {
            notice_.clear();
            show(found);
            source_.plot.replot(QCustomPlot::rpQueuedReplot);
            source_.plot.parentWidget()->update();
        };
    });
}

void SpectrumLane::show(const std::vector<std::optional<Spectrum>>& spectra) {
    double greatest = 0, step = 0, highest = 0;
    found_.assign(lane_.quantities.size(), {});
    for (std::size_t at = 0; at < lines_.size(); ++at) {
        Line& line = lines_[at];
        const auto& spectrum = spectra[at];
        line.graph->data()->clear();
        if (!spectrum) continue;
        QVector<double> frequencies, levels;
        for (std::size_t k = 1; k < spectrum->peaks.size(); ++k) {
            const double f = static_cast<double>(k) * spectrum->step;
            frequencies << f;
            levels << level(spectrum->peaks[k]);
            greatest = std::max(greatest, spectrum->peaks[k]);
            highest = std::max(highest, f);
        }
        line.graph->setData(frequencies, levels, true);
        step = spectrum->step;
        if (line.entry) continue;
        const auto row = static_cast<std::size_t>(
            std::find(lane_.quantities.begin(), lane_.quantities.end(), line.quantity) - lane_.quantities.begin());
        Found& found = found_[row];
        for (const auto& [frequency, peak] : peaksOf(*spectrum, shownPeaks))
            found.peaks.emplace_back(frequency, level(peak));
        for (int k = 0; limit_ && k < levels.size(); ++k)
            if (const auto allowed = limit_->at(frequencies[k]))
                if (const double over = levels[k] - *allowed; !found.worst || over > found.worst->second)
                    found.worst = {frequencies[k], over};
    }
    fit(step, highest, greatest);
}

void SpectrumLane::fit(double step, double highest, double greatest) {
    if (step == 0 || greatest == 0) {
        x().setRange(1, 10);
        return setValues(1, 0);
    }
    const double wanted = typedOr(lane_.spectrum.highest, highest);
    x().setRange(step, std::max(2 * step, std::min(wanted, highest)));
    double low = lane_.spectrum.decibel ? level(greatest) - shownDecibels : greatest * std::pow(10, -shownDecades);
    double high = lane_.spectrum.decibel ? level(greatest) + 8 : 3 * greatest;
    if (limit_)
        for (const auto& point : limit_->points()) high = std::max(high, point.second);
    y().setTickLabels(!lane_.folded);
    y().setRange(typedOr(lane_.low, low), typedOr(lane_.high, high));
}

/// The room below a name is filled with peaks.
std::size_t SpectrumLane::peaksPerRow() const {
    const int rows = (box().height() - 16) / rowHeight, quantities = static_cast<int>(lane_.quantities.size());
    return static_cast<std::size_t>(std::clamp(quantities == 1 ? 2 * rows : 2, 2, static_cast<int>(shownPeaks)));
}

void SpectrumLane::paintReading(QPainter& painter, std::size_t row, int width, int y) const {
    const Found& found = found_[row];
    const auto shown = [](double value, const std::string& unit, int digits) {
        return QString::fromStdString(unit.starts_with("dB") ? fmt::format("{:.1f} {}", value, unit)
                                                             : formatQuantity(value, unit, digits));
    };
    const QRect box = readingBox(width, y);
    int line = 0;
    if (found.worst) {
        const double over = found.worst->second;
        painter.setPen(over > 0 ? colours().haw : colours().ink);
        painter.drawText(box, Qt::AlignRight | Qt::AlignVCenter,
                         QString("%1 %2 the limit at %3")
                             .arg(shown(std::abs(over), lane_.spectrum.decibel ? "dB" : unit_, 3),
                                  over > 0 ? "above" : "below", shown(found.worst->first, "Hz", 4)));
        painter.setPen(colourOf(row));
        ++line;
    }
    const std::size_t count = std::min(peaksPerRow(), found.peaks.size());
    for (std::size_t i = 0; i < count; ++i) {
        const int half = box.width() / 2, column = static_cast<int>(i % 2);
        const QRect cell(box.left() + column * half, y + (line + static_cast<int>(i / 2)) * rowHeight, half - 4,
                         rowHeight);
        if (cell.bottom() > this->box().bottom()) break;
        painter.drawText(cell, Qt::AlignRight | Qt::AlignVCenter,
                         shown(found.peaks[i].first, "Hz", 4) + "  " + shown(found.peaks[i].second, unit_, 3));
    }
}

QString SpectrumLane::readings() const {
    QString text = "frequency in Hz";
    for (const Line& line : lines_)
        if (!line.entry) text += "\t" + QString::fromStdString(line.quantity + " in " + unit_);
    text += "\n";
    const QCPGraph* longest = nullptr;
    for (const Line& line : lines_)
        if (!line.entry && (!longest || line.graph->dataCount() > longest->dataCount())) longest = line.graph;
    for (int i = 0; longest && i < longest->dataCount(); ++i) {
        text += QString::number(longest->data()->at(i)->key, 'g', 12);
        for (const Line& line : lines_)
            if (!line.entry)
                text += "\t" + (i < line.graph->dataCount() ? QString::number(line.graph->data()->at(i)->value, 'g', 8)
                                                            : QString());
        text += "\n";
    }
    return text;
}

}  // namespace

std::unique_ptr<LaneView> makeSpectrumLane(const LaneSource& source, const Lane& lane) {
    return std::make_unique<SpectrumLane>(source, lane);
}

}  // namespace hedgerow::app
