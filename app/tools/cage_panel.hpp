/// @file tools/cage_panel.hpp
/// Tools of the control cage: selecting, moving, changing faces; members and thickened regions.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QPushButton>
#include <QTableWidget>

#include "session.hpp"
#include "view/cage_editor.hpp"
#include "widgets.hpp"

namespace escultura::app {

class CagePanel : public QWidget {
    Q_OBJECT
  public:
    explicit CagePanel(Session& session, QWidget* parent = nullptr);
    void setEditor(CageEditor* editor);
    void refresh();
    /// Members and thickened regions as numbers. Stands in the drawer.
    QWidget* changes() { return changes_; }

  signals:
    /// The table of changes is to be shown.
    void changesAsked();
    void failed(const QString& message);

  private:
    FlowLayout* makeSelection();
    FlowLayout* makeMoving();
    FlowLayout* makeShaping();
    FlowLayout* makeRepairing();
    QWidget* makeTools();
    QWidget* makeSteps();
    QPushButton* button(const QString& text, const char* name, const QString& tip, const std::function<void()>& action);
    void editStep(int row, int column);
    void addMember();
    void addThickening();
    Vec3 typed() const;

    Session& session_;
    CageEditor* editor_ = nullptr;
    QPushButton* edit_;
    QWidget *changes_, *tools_;
    QComboBox *element_, *tool_, *frame_, *region_;
    QCheckBox *symmetric_, *deviation_, *paint_;
    QuantityEdit *soft_, *amount_, *segments_, *sharpness_, *far_, *brush_;
    std::array<QLineEdit*, 3> number_{};
    QLabel* state_;
    QTableWidget* steps_;
    bool filling_ = false;
};

}  // namespace escultura::app
