/// @file theme/theme.hpp
/// Colours, fonts, style sheet and line icons.

#pragma once
#include <QColor>
#include <QIcon>
#include <QString>

class QApplication;

namespace escultura::app::theme {

inline const QColor paper{0xF6, 0xF2, 0xEA}, card{0xFF, 0xFD, 0xF8}, ink{0x2B, 0x2A, 0x27}, muted{0x6E, 0x69, 0x5F},
    line{0xDA, 0xD2, 0xC3}, clay{0xB4, 0x53, 0x2A}, teal{0x1F, 0x6F, 0x6B}, ochre{0x96, 0x66, 0x0C};

/// Sets fonts, palette and style sheet.
void apply(QApplication& application);

/// A line icon: open, save, undo, redo, fit, plus, play, stop, table, folder.
QIcon icon(const QString& name);

/// "#RRGGBB" with a word for use in rich text.
QString coloured(const QString& text, const QColor& colour);

}  // namespace escultura::app::theme
