/// @file drawer/drawer.hpp
/// Tables under the view: findings, load resultants, mesh quality, log.

#pragma once
#include <QPlainTextEdit>
#include <QTabWidget>

#include "drawer/interfaces_panel.hpp"
#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class Drawer : public QTabWidget {
    Q_OBJECT
  public:
    explicit Drawer(Session& session, QWidget* parent = nullptr);
    void refresh();
    InterfacesPanel& interfaces() { return *interfaces_; }

  signals:
    void findingChosen(const QString& id);

  private:
    Session& session_;
    InterfacesPanel* interfaces_;
    QTableWidget *findings_, *resultants_, *quality_;
    QPlainTextEdit* log_;
};

}  // namespace escultura::app
