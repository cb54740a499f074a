#include "window/help.h"

#include <cmath>

#include <QDialog>
#include <QShortcut>
#include <QTextBrowser>
#include <QVBoxLayout>

#include "model/quantity.h"

namespace hedgerow::app {

namespace {

QString text(const std::string& s) { return QString::fromStdString(s).toHtmlEscaped(); }

QString rangeOf(const ParameterKind& p) {
    const bool low = std::isfinite(p.least), high = std::isfinite(p.most);
    const QString least = text(formatQuantity(p.least, p.unit)), most = text(formatQuantity(p.most, p.unit));
    if (!p.choices.empty()) {
        QStringList all;
        for (const std::string& choice : p.choices) all << text(choice);
        return all.join(", ");
    }
    return low && high ? least + " … " + most
           : low       ? (p.aboveLeast ? "&gt; " : "≥ ") + least
           : high      ? "≤ " + most
                       : "any";
}

}  // namespace

QString partHelp(const PartKind& kind) {
    QString html =
        "<h2>" + text(kind.title) + "</h2><p><b>" + text(kind.summary) + "</b></p><p>" + text(kind.help) + "</p>";
    html += "<h3>Ladder</h3><table cellpadding=4>";
    static const char* const names[] = {"averaged", "ideal", "lossy", "dynamic", "physical"};
    for (const RungKind& rung : kind.rungs)
        html += QString("<tr><td><b>%1 %2</b></td><td>adds: %3<br><i>%4</i><br>%5</td></tr>")
                    .arg(rung.rung)
                    .arg(names[rung.rung])
                    .arg(text(rung.adds), text(rung.equations), text(rung.source));
    html += "</table>";
    if (!kind.parameters.empty()) {
        html +=
            "<h3>Parameters</h3><table cellpadding=4><tr><td><b>typed "
            "as</b></td><td><b>what</b></td><td><b>unit</b></td><td><b>default</b></td><td><b>range</b></"
            "td><td><b>from rung</b></td></tr>";
        for (const ParameterKind& p : kind.parameters)
            html += QString("<tr><td>%1</td><td>%2</td><td>%3</td><td>%4</td><td>%5</td><td>%6</td></tr>")
                        .arg(text(p.key), text(p.label), text(p.unit), text(p.standard.empty() ? "–" : p.standard),
                             rangeOf(p), p.rating ? "rating" : QString::number(p.rung));
        html += "</table>";
    }
    html += "<h3>Pins</h3><p>";
    QStringList pins;
    for (const PinKind& pin : kind.pins)
        pins << text(pin.name) +
                    (pin.sort == PinSort::signalIn    ? " (signal in)"
                     : pin.sort == PinSort::signalOut ? " (signal out)"
                                                      : "") +
                    (pin.optional ? ", may stay open" : "");
    html += pins.join("; ") + "</p><p>Found by typing: " + text(kind.id);
    for (const std::string& synonym : kind.synonyms) html += ", " + text(synonym);
    return html + "</p>";
}

QString generalHelp() {
    static const std::pair<const char*, const char*> keys[] = {
        {"type letters over the sheet", "opens the entry line: a part and its values, such as <tt>l 47u dcr 12m</tt>"},
        {"Enter, click",
         "drops the hanging part, with Shift hangs another one; with a part selected, Enter edits its value"},
        {"Space", "hangs the part that was placed last, or the selected one, once more"},
        {"← → / ↑ ↓ while hanging", "turn / flip; with Shift they move it"},
        {"click a pin, or drag from a pin or a wire",
         "starts a wire; click a pin or a wire to end it, anywhere else to bend it"},
        {"<tt>net NAME</tt> over a wire", "names the net, <tt>net NAME C1.a</tt> that of a pin; equal names join"},
        {"<tt>join L1.b C1.a</tt>", "wires two pins, or a pin and a named net"},
        {"click a name or a value", "edits it in place; F2 edits the name"},
        {"↑ ↓ or the wheel in a value", "the next preferred value (E24), with Shift E96"},
        {"Tab", "next part"},
        {"Alt and drag", "drags a copy; on the empty sheet draws a lasso"},
        {"Ctrl+F", "finds commands with their keys, parts, nets, values, and help"},
        {"Ctrl+L", "what is wrong or doubtful on the sheet"},
        {"Ctrl+T", "the circuit as text beside the sheet"},
        {"Ctrl+G", "the gallery of circuits"},
        {"Ctrl+R, Ctrl+J, Ctrl+E, Ctrl+M",
         "copies in a row, select the whole net, select all of this kind, make a parameter of the value"},
        {"Ctrl+K, Ctrl+I, Ctrl+U", "make a module of the selection, open the module of a place, up to the sheet above"},
        {"arrows", "move the selection by one grid step"},
        {"Ctrl+→ , Ctrl+↑", "turn, flip the selection"},
        {"Page Up, Page Down", "climb and descend the ladder"},
        {"Ctrl+Page Down", "run with the selected parts a rung lower, and as they are beside it"},
        {"One change at a time, on the card of the project",
         "after a run: the part to put on a higher rung next, why, and when it shows; a click on the rung climbs"},
        {"Read makers' cards… in the menu",
         "<tt>.model</tt> and <tt>.subckt</tt> text becomes parts and modules to be typed by name; what is not taken "
         "is listed line by line"},
        {"Equations, Measure prices under the ladder",
         "what each rung solves and where that comes from; what each rung costs in this circuit on this machine"},
        {"Ctrl+Z, Ctrl+Shift+Z", "undo, redo"},
        {"Ctrl+C, Ctrl+X, Ctrl+V, Del, Ctrl+A", "copy, cut, paste, delete, select all"},
        {"Ctrl+Return, Ctrl+.", "run, stop"},
        {"Ctrl+Shift+Return", "settle: the periodic state at once"},
        {"Ctrl+Shift+T", "trade study: what other ways of solving lose and save"},
        {"Ctrl+Shift+Y", "study: many runs from one, what varies and what is measured"},
        {"On the spans: drag", "a border moves it, a block up or down climbs or descends"},
        {"On the spans: S, K, Enter, Del", "split at the cursor, begin from the periodic state, type, remove"},
        {"On the spans: Ctrl+Up, Ctrl+Down", "all parts of the span one rung up or down"},
        {"Ctrl+Shift+F", "response: the timeline over frequency, and back"},
        {"wheel, drag", "zoom at the pointer, pan; on the sheet drag with the middle button"},
        {"Home", "show everything, in the sheet and in the timeline"},
        {"pointer over the lanes",
         "the sheet shows the circuit at that instant; a click holds the cursor, Esc lets it go, Shift+← → moves it"},
        {"Shift and click in the lanes, or M",
         "sets a second cursor: the time between the two, differences, slopes and measures"},
        {"Ctrl+← →  in the lanes", "the cursor goes to the next edge or turn of the chosen trace, or of any"},
        {"Alt+← →  in the lanes",
         "the cursor goes to where the chosen trace, or the first, next passes zero or, with a mark, the value there"},
        {"Alt and drag in the lanes",
         "measured data beside the run are moved in time; with Shift they are stretched around the cursor"},
        {"click a name beside a lane", "its measures for all shown runs, and its harmonics, on the card"},
        {"drag the lower edge of a lane", "makes it higher; its menu folds it, holds its range, makes it logarithmic"},
        {"the menu of a lane",
         "its spectrum in a lane below, with window, whole periods, dBµV and a limit on the card of the trace; a "
         "quantity over the chosen one; sets of lanes under names; the lanes as a picture"},
        {"<tt>L1.i over out.v</tt> where quantities are found", "one quantity over the other, in a lane of its own"},
        {"an expression where quantities are found",
         "is a trace too: <tt>out.v * L1.i</tt>, <tt>mean(V1.p, 1/fsw)</tt>, <tt>d(L1.i)</tt>, <tt>int()</tt>, "
         "<tt>lowpass(x, 1 kHz)</tt>, <tt>dB()</tt>, <tt>abs sqrt exp ln log10 sin cos min max</tt>"},
        {"Space, F2, Del in the list of runs", "pin a run beside others, name it, delete it"},
        {"<tt>10m: R1.r = 1.2</tt> on the card of the project",
         "an event of the scene: when, what, and what it becomes; <tt>12m: Vin = 31 over 5m</tt> ramps, "
         "<tt>20m, V1 at 90: K1.value = 1</tt> waits for an angle of a wave; <tt>50m: Q1 opens</tt> moves a contact "
         "that has "
         "no wire at its gate; times may count periods: <tt>3 periods of V1</tt>"},
        {"drag or click a mark in the row of events", "moves the event, brings its line up on the card"},
        {"Ctrl+Shift+E", "the control code of the selected part beside the sheet"},
        {"Ctrl+Shift+M",
         "the model desk: the selected device in the standard jigs, on all its rungs at once, beside those of its data sheet; "
         "a "
         "diode's curve becomes straight lines for rung 2 there"},
        {"Ctrl+1, Ctrl+2, Ctrl+3", "parts, quantities, runs in the shelf"},
        {"F6", "next area of the window"},
        {"Ctrl+D", "light or dark"},
        {"F1", "this page, or that of the selected part"},
    };
    QString html =
        "<h2>Hedgerow</h2><p>Type parts onto the sheet, join their pins, press Run. Everything that was computed is in "
        "the shelf under Quantities. "
        "Values are typed in engineering notation (<tt>47u</tt>, <tt>4k7</tt>, <tt>10 mH</tt>) or as an expression of "
        "project parameters "
        "(<tt>1/fsw</tt>, <tt>230*sqrt(2)</tt>). Parameters and the plan stand on the card when nothing is "
        "selected; a click on the name of a parameter shows its note, its range and where it is used.</p><p>As text, a "
        "part is a line: <tt>L1 inductor sw out rung 2 l 47u dcr 12m</tt>, that is name, kind, a net for each pin (- "
        "for "
        "none), then keys and values. 0 is the net of the reference.</p><h3>Control</h3><p>Signals are thin wires. "
        "What is measured (<tt>p out.v</tt>, <tt>p L1.i</tt>) "
        "runs all the time, and so does what a part without a task makes of it; parts that name a task work at its "
        "samples (<tt>task 100u</tt>). A comparator or a modulator makes edges of what runs. Events of a scene change "
        "parameters and values during a run.</p><h3>Keys</h3><table cellpadding=4>";
    for (const auto& [key, what] : keys) html += QString("<tr><td><b>%1</b></td><td>%2</td></tr>").arg(key, what);
    return html +
           "</table><h3>Values</h3><p>Prefixes f p n u (µ) m k M G T. Units V A W Ω (ohm) F H s Hz C J K S Wb deg rad "
           "%. Functions sqrt abs exp ln log10 sin cos tan min max; "
           "the constant pi; + − * / ^ and parentheses. A number without a unit takes the unit of its field; another "
           "unit is refused.</p>";
}

void showHelp(QWidget* parent, const QString& title, const QString& html) {
    auto* window = parent->findChild<QDialog*>("help");
    if (!window) {
        window = new QDialog(parent);
        window->setObjectName("help");
        auto* browser = new QTextBrowser(window);
        auto* column = new QVBoxLayout(window);
        column->setContentsMargins(8, 8, 8, 8);
        column->addWidget(browser);
        window->resize(640, 560);
    }
    window->setWindowTitle("Help: " + title);
    window->findChild<QTextBrowser*>()->setHtml(html);
    window->show();
    window->raise();
}

}  // namespace hedgerow::app
