/// @file drawer/requirements_panel.hpp
/// What the part must satisfy, as rows that are edited in place, and sets to start from.

#pragma once
#include <QComboBox>
#include <QLineEdit>
#include <QPushButton>
#include <QTableWidget>

#include "session.hpp"

namespace escultura::app {

class RequirementsPanel : public QWidget {
    Q_OBJECT
  public:
    explicit RequirementsPanel(Session& session, QWidget* parent = nullptr);
    void refresh();

  signals:
    void failed(const QString& message);

  private:
    void makeInputs();
    void layOut();
    void connectInputs();
    void fillForm(int row);
    void apply(int row);
    void change(const QString& text, std::vector<duty::Requirement> next);
    Session& session_;
    QTableWidget* table_;
    QComboBox *kind_, *case_, *interface_, *templates_, *uses_;
    QLineEdit *limit_, *direction_, *source_;
    QPushButton *add_, *update_, *remove_, *start_;
};

}  // namespace escultura::app
