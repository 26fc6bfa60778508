/// @file tips.hpp
/// What fields and columns mean: definition, unit, where the value comes from and where it goes.

#pragma once
#include <QString>

class QWidget;

namespace escultura::app {

/// Of a field by its object name, or of a column by its heading. Empty: there is none.
QString tipOf(const QString& name);
/// Gives every field below a widget that has no tip the one of its name.
void addTips(QWidget* root);

}  // namespace escultura::app
