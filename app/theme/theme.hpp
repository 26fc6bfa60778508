/// @file theme/theme.hpp
/// Colours, fonts, style sheet and line icons.

#pragma once
#include <QColor>
#include <QIcon>
#include <QString>

#include "report/plot.hpp"

class QApplication;
class QWidget;

namespace escultura::app::theme {

/// Colours by role; those of the theme that is applied.
inline QColor paper{0xF6, 0xF2, 0xEA}, card{0xFF, 0xFD, 0xF8}, ink{0x2B, 0x2A, 0x27}, muted{0x6E, 0x69, 0x5F},
    line{0xDA, 0xD2, 0xC3}, clay{0xAE, 0x4F, 0x27}, teal{0x1F, 0x6F, 0x6B}, ochre{0x8C, 0x5F, 0x0A};
inline QColor field{0xFF, 0xFF, 0xFF};                           ///< ground of inputs
inline QColor soft{0xF0, 0xEA, 0xDD}, chosen{0xF3, 0xE3, 0xD8};  ///< ground under the pointer, of what is chosen
inline QColor faded{0xA8, 0xA1, 0x94};                           ///< words of what cannot be used now
inline QColor shade{0xEF, 0xE9, 0xDC};                           ///< ground of pictures and captions
inline QColor bar{0xCB, 0xBD, 0xA2}, paleBar{0xEB, 0xE4, 0xD6};  ///< of histograms
inline QColor warnGround{0xFB, 0xF1, 0xD9}, warnLine{0xC5, 0x8B, 0x1B};    ///< of a notice
inline QColor wrongGround{0xFB, 0xEA, 0xDF}, wrongLine{0xE0, 0xB4, 0x9A};  ///< of an error

/// Of words on the dark strip of requirements, in both themes.
inline const QString onDarkTeal{"#79C7BD"}, onDarkOchre{"#E8B95A"}, onDarkClay{"#F09A78"}, onDarkMuted{"#B9B1A2"};

/// Whether the dark theme is applied.
bool isDark();

/// Sets fonts, palette, style sheet and colours. @param textSize  in per cent of the usual one
void apply(QApplication& application, bool dark = false, int textSize = 100);

/// Reads the style of what is not in sight yet, while nothing else happens: pages open at once the first time too.
void styleAhead(QWidget* root);
/// Whether widgets that are not in sight still wait for their style.
bool isStyling();

/// Colours of charts in the theme that is applied.
report::PlotColours plotColours();

/// A length that grows with the size of the text. @param px  at 100 %
int px(double px);

/// Fixes width or height, or sets the least or most, at lengths that grow with the size of the text, also later.
/// @param px  at 100 %; 0: left as it is
enum class Length { width, height, leastWidth, leastHeight, mostWidth, mostHeight };
void fix(QWidget* widget, Length what, int px);
/// Fits all fixed lengths below a widget to the size of the text.
void refit(QWidget* root);

/// A line icon: open, save, undo, redo, fit, plus, play, stop, table, folder.
QIcon icon(const QString& name);

/// Plain text in a colour, as rich text.
QString coloured(const QString& text, const QColor& colour);
/// Rich text in the colour of what matters less.
QString mutedText(const QString& html);

}  // namespace escultura::app::theme
