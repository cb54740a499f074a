#include "style/theme.h"

#include <QApplication>
#include <QPalette>
#include <QStyleFactory>
#include <QToolTip>

namespace hedgerow::app {

namespace {

const Colours light = {
    "#F4F2EA", "#FCFBF7",
    "#EBE8DD", "#1F261E",
    "#5C5848", "#D3CEBD",
    "#2C6A3B", "#DCE9D7",
    "#35478F", "#E0E4F3",
    "#A6223A", "#F5DEE0",
    "#8A6100", "#F6EACB",
    "#FFFFFF", {"#2C4FA3", "#B0302C", "#1E7A55", "#A66E00", "#7A3F8F", "#0E7E8C", "#6E5238", "#BE4B86"}};

const Colours dark = {
    "#151A15", "#1A201A",
    "#222A22", "#E9E7DC",
    "#ABA996", "#39423A",
    "#7CC48A", "#25402B",
    "#A3B1F0", "#2A3257",
    "#F0808C", "#47222A",
    "#E5B94E", "#463A18",
    "#10180F", {"#86A6FF", "#FF8A7A", "#5FCB97", "#E8B44A", "#C997DE", "#54C6D4", "#C9A985", "#F08CBD"}};

Theme theme = Theme::light;

QString styleSheet(const Colours& p) {
    QString text = R"(
* { font-family: "Noto Sans", "DejaVu Sans"; font-size: 12px; }
QMainWindow, QWidget#panel { background: @linen; color: @ink; }
QLabel { color: @ink; background: transparent; }
QLabel[quiet="true"] { color: @bark; }
QLabel[bad="true"] { color: @haw; }
QLineEdit { background: @paper; color: @ink; border: 1px solid @rule; border-radius: 4px; padding: 1px 6px; selection-background-color: @sloe; selection-color: @paper; min-height: 18px; }
QLineEdit:focus { border: 1px solid @sloe; }
QLineEdit[bad="true"] { border: 1px solid @haw; }
QPushButton { background: transparent; color: @ink; border: 1px solid @rule; border-radius: 16px; padding: 5px 18px; min-height: 20px; }
QPushButton:hover { border-color: @leaf; }
QPushButton:focus { border: 2px solid @sloe; padding: 4px 17px; }
QPushButton:disabled { color: @bark; border-style: dashed; }
QPushButton#primary { background: @leaf; color: @onLeaf; border: 1px solid @leaf; font-weight: bold; font-size: 14px; }
QPushButton#primary:disabled { background: @rule; border-color: @rule; color: @bark; }
QPushButton#stop { border: 1px solid @haw; color: @haw; font-weight: bold; font-size: 14px; }
QComboBox { background: @paper; color: @ink; border: 1px solid @rule; border-radius: 15px; padding: 4px 14px; min-height: 20px; }
QComboBox:focus { border: 1px solid @sloe; }
QComboBox::drop-down { border: 0; width: 22px; }
QComboBox QAbstractItemView { background: @paper; color: @ink; border: 1px solid @rule; selection-background-color: @leafTint; selection-color: @ink; outline: 0; }
QListView, QTreeView, QTableView { background: @paper; color: @ink; border: 0; outline: 0; }
QListView::item { padding: 5px 8px; border-radius: 4px; }
QListView::item:selected { background: @leafTint; color: @ink; }
QListView::item:hover:!selected { background: @chalk; }
QScrollArea { border: 0; background: transparent; }
QScrollBar:vertical { background: transparent; width: 8px; margin: 0; }
QScrollBar::handle:vertical { background: @rule; border-radius: 4px; min-height: 24px; }
QScrollBar:horizontal { background: transparent; height: 8px; margin: 0; }
QScrollBar::handle:horizontal { background: @rule; border-radius: 4px; min-width: 24px; }
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page { background: transparent; width: 0; height: 0; }
QMenu { background: @paper; color: @ink; border: 1px solid @rule; padding: 4px; }
QMenu::item { padding: 5px 24px 5px 12px; border-radius: 4px; }
QMenu::item:selected { background: @leafTint; }
QMenu::item:disabled { color: @bark; }
QMenu::separator { height: 1px; background: @rule; margin: 4px 8px; }
QToolTip { background: @paper; color: @ink; border: 1px solid @rule; padding: 4px; }
QSplitter::handle { background: @rule; }
QTextBrowser { background: @paper; color: @ink; border: 0; }
)";
    const std::pair<const char*, QColor> tokens[] = {
        {"@leafTint", p.leafTint}, {"@onLeaf", p.onLeaf}, {"@chalk", p.chalk}, {"@paper", p.paper},
        {"@linen", p.linen},       {"@ink", p.ink},       {"@bark", p.bark},   {"@rule", p.rule},
        {"@leaf", p.leaf},         {"@sloe", p.sloe},     {"@haw", p.haw}};
    for (const auto& [token, colour] : tokens) text.replace(token, colour.name());
    return text;
}

}  // namespace

const Colours& colours() { return theme == Theme::light ? light : dark; }
Theme currentTheme() { return theme; }

LightColours::LightColours() : before_(std::exchange(theme, Theme::light)) {}
LightColours::~LightColours() { theme = before_; }

QFont textFont(TextSize size, bool bold, bool italic) {
    QFont f("Noto Sans");
    f.setPixelSize(size == TextSize::small ? 11 : size == TextSize::normal ? 12 : 16);
    f.setBold(bold);
    f.setItalic(italic);
    return f;
}

void applyTheme(QApplication& application, Theme chosen) {
    theme = chosen;
    const Colours& p = colours();
    application.setStyle(QStyleFactory::create("Fusion"));
    application.setFont(textFont());
    QPalette colours;
    colours.setColor(QPalette::Window, p.linen);
    colours.setColor(QPalette::WindowText, p.ink);
    colours.setColor(QPalette::Base, p.paper);
    colours.setColor(QPalette::AlternateBase, p.chalk);
    colours.setColor(QPalette::Text, p.ink);
    colours.setColor(QPalette::Button, p.linen);
    colours.setColor(QPalette::ButtonText, p.ink);
    colours.setColor(QPalette::Highlight, p.sloe);
    colours.setColor(QPalette::HighlightedText, p.paper);
    colours.setColor(QPalette::ToolTipBase, p.paper);
    colours.setColor(QPalette::ToolTipText, p.ink);
    colours.setColor(QPalette::PlaceholderText, p.bark);
    application.setPalette(colours);
    application.setStyleSheet(styleSheet(p));
}

}  // namespace hedgerow::app
