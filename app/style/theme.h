#pragma once
// Colours, fonts and the style sheet: the only place that knows a colour by its number.

#include <array>

#include <QColor>
#include <QFont>
#include <QObject>

class QApplication;

namespace hedgerow::app {

struct Colours {
    QColor chalk, paper, linen;  ///< timeline, sheet, panels
    QColor ink, bark, rule;      ///< text, quieter text, hairlines
    QColor leaf, leafTint;       ///< the main action, the present rung, the current row
    QColor sloe, sloeTint;       ///< selection, cursor, entry line
    QColor haw, hawTint;         ///< errors, stress near its limit
    QColor gorse, gorseTint;     ///< events, cautions
    QColor onLeaf;               ///< text on leaf
    std::array<QColor, 8> traces;
};

enum class Theme { light, dark };

/// The colours in force. Changes only through applyTheme().
const Colours& colours();
Theme currentTheme();

/// While one lives, colours() are the light ones: for paper.
class LightColours {
public:
    LightColours();
    ~LightColours();
    LightColours(const LightColours&) = delete;
    LightColours& operator=(const LightColours&) = delete;

private:
    Theme before_;
};

/// Sets colours, fonts and the style sheet of the whole application.
void applyTheme(QApplication& application, Theme theme);

enum class TextSize { small, normal, large };
QFont textFont(TextSize size = TextSize::normal, bool bold = false, bool italic = false);

}  // namespace hedgerow::app
