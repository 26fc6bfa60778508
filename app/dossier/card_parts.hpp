/// @file dossier/card_parts.hpp
/// Small things that cards are built from.

#pragma once
#include <QComboBox>
#include <QHBoxLayout>

#include "base/geometry.hpp"
#include "judge/requirements.hpp"
#include "widgets.hpp"

namespace escultura::app {

QWidget* row(std::initializer_list<QWidget*> widgets);
/// A control with its name before it.
QWidget* field(const QString& name, QWidget* control);
/// A hidden label for what is wrong with an input.
QLabel* errorLabel();
void showError(QLabel* l, const QString& text);
QString mass(double kg);
/// A small heading inside a card.
QLabel* heading(const QString& text);
/// Words that lead to a place: a label emits linkActivated with this key.
QString link(const QString& key, const QString& text);

/// A requirement as cells of a table: what, limit, value, state.
QStringList requirementCells(const judge::RequirementState& state);

/// A direction: one of the axes, or three numbers.
class DirectionEdit : public QComboBox {
    Q_OBJECT
  public:
    explicit DirectionEdit(QWidget* parent = nullptr);
    void setValue(const Vec3& v);

  signals:
    void valueEntered(const escultura::Vec3& unit);

  private:
    void accept(const QString& text);
    Vec3 value_ = Vec3::UnitZ();
};

}  // namespace escultura::app
