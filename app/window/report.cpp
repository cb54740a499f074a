#include "window/report.h"

#include <QBuffer>
#include <QFileInfo>
#include <QPageLayout>
#include <QPdfWriter>
#include <QTextDocument>

#include "formats/file.h"
#include "model/quantity.h"
#include "sheet/sheet_export.h"
#include "base/workspace.h"
#include "style/theme.h"
#include "timeline/timeline_view.h"
#include "traces/measures.h"

namespace hedgerow::app {

namespace {

constexpr int pageWidth = 1000;  ///< of pictures, in pixels of the report

QString text(const std::string& plain) { return QString::fromStdString(plain).toHtmlEscaped(); }
QString shown(double value, const std::string& unit) { return text(formatQuantity(value, unit, 5)); }

QByteArray asPng(const QPixmap& pixmap) {
    QByteArray bytes;
    QBuffer buffer(&bytes);
    buffer.open(QBuffer::WriteOnly);
    pixmap.save(&buffer, "PNG");
    return bytes;
}

/// @param png  part of the page itself, so that the report needs no other file
QString picture(const QByteArray& png, const QString& what) {
    return QString("<p><img alt=\"%1\" width=\"%2\" src=\"data:image/png;base64,%3\"></p>")
        .arg(what.toHtmlEscaped())
        .arg(pageWidth)
        .arg(QString::fromLatin1(png.toBase64()));
}

QString row(const QStringList& cells, const char* tag = "td") {
    QString html = "<tr>";
    for (const QString& cell : cells) html += QString("<%1>%2</%1>").arg(tag, cell);
    return html + "</tr>";
}

QString parameterTable(const Project& project) {
    if (project.parameters.empty()) return {};
    QString html = "<h2>Parameters</h2><table>" + row({"name", "value", "unit", "note"}, "th");
    for (const Parameter& p : project.parameters)
        html += row({text(p.name), text(p.value), text(p.unit), text(p.note)});
    return html + "</table>";
}

QString partTable(const Project& project, const Catalogue& catalogue) {
    QString html = "<h2>Parts</h2><table>" + row({"name", "part", "rung", "values"}, "th");
    for (const Part& part : project.sheets.front().parts) {
        const PartKind* kind = catalogue.find(part.kind);
        QStringList values;
        for (const auto& [key, typed] : part.values.all()) values << text(key + " " + typed);
        html +=
            row({text(part.name), text(kind ? kind->title : part.kind), QString::number(part.rung), values.join(", ")});
    }
    return html + "</table>";
}

QString measureTable(Workspace& workspace) {
    const std::pair<Tick, Tick> span = workspace.measured();
    QString html = QString("<h2>Measures</h2><p>%1 to %2</p><table>")
                       .arg(shown(toSeconds(span.first), "s"), shown(toSeconds(span.second), "s"));
    html += row({"quantity", "min", "mean", "max", "peak to peak", "rms", "frequency"}, "th");
    for (const Lane& lane : workspace.project().lanes)
        for (const std::string& quantity : lane.quantities) {
            const Trace* trace = workspace.trace(quantity);
            const auto m = trace ? waveMeasures(*trace, span.first, span.second) : std::nullopt;
            if (!m) continue;
            const std::string& unit = trace->unit();
            html += row({text(quantity), shown(m->basic.min, unit), shown(m->basic.mean, unit),
                         shown(m->basic.max, unit), shown(m->basic.peakToPeak(), unit), shown(m->basic.rms, unit),
                         m->frequency ? shown(*m->frequency, "Hz") : "–"});
        }
    return html + "</table>";
}

QString runTable(const RunRecord& run) {
    QString html = "<h2>Run</h2><table>";
    for (const auto& [key, value] : run.provenance()) html += row({text(key), text(value)});
    const RunSummary& summary = run.summary();
    for (const auto& [name, seconds] : summary.seconds) html += row({text("time: " + name), shown(seconds, "s")});
    for (const auto& [name, count] : summary.counters) html += row({text(name), QString::number(count)});
    return html + "</table>";
}

}  // namespace

Status writeReport(Workspace& workspace, TimelineView& timeline, const QString& path) {
    const RunEntry& entry = *workspace.shownRun();
    const Project& project =
        entry.run->project().sheets.front().parts.empty() ? workspace.project() : entry.run->project();
    const QString title = text(project.title.empty() ? "Run" : project.title);
    QString html = "<!DOCTYPE html><html><head><meta charset=\"utf-8\"><title>" + title +
                   "</title><style>body { font-family: sans-serif; max-width: 1040px; margin: 24px auto; color: "
                   "#1F261E; } table { "
                   "border-collapse: collapse; } th, td { text-align: left; padding: 2px 14px 2px 0; border-bottom: "
                   "1px solid #D3CEBD; "
                   "} h2 { margin-top: 24px; }</style></head><body><h1>" +
                   title + "</h1><p>" + text(project.description) + "</p>";
    html += "<p>" +
            text("run " + std::to_string(entry.number) + (entry.about.name.empty() ? "" : ": " + entry.about.name)) +
            (entry.about.note.empty() ? "" : "<br>" + text(entry.about.note)) + "</p>";
    if (workspace.isOld(entry))
        html += "<p>The sheet has changed since this run; values and parts are those of the run.</p>";
    html += picture(sheetAsPng(workspace), "sheet");
    html += picture(asPng(timeline.grab()), "traces");
    html += measureTable(workspace) + parameterTable(project) + partTable(project, workspace.catalogue()) +
            runTable(*entry.run) + "</body></html>";
    if (!path.endsWith(".pdf", Qt::CaseInsensitive)) return writeFileAtomically(path.toStdString(), html.toStdString());
    return replaceAtomically(path.toStdString(), [&](const std::filesystem::path& temporary) -> Status {
        QPdfWriter writer(QString::fromStdString(temporary.string()));
        writer.setPageSize(QPageSize(QPageSize::A4));
        writer.setPageMargins(QMarginsF(15, 15, 15, 15), QPageLayout::Millimeter);
        QTextDocument document;
        document.setDefaultFont(textFont());
        document.setHtml(html.replace(QString("width=\"%1\"").arg(pageWidth), "width=\"640\""));
        document.setPageSize(QSizeF(writer.width(), writer.height()) * 96.0 / writer.logicalDpiX());
        document.print(&writer);
        if (QFileInfo(QString::fromStdString(temporary.string())).size() == 0)
            return Error{ErrorCode::file, path.toStdString() + " cannot be written"};
        return {};
    });
}

}  // namespace hedgerow::app
