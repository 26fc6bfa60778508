/// @file drawer/drawer.hpp
/// Tables under the view: findings, load resultants, mesh quality, log.

#pragma once
#include <QPlainTextEdit>
#include <QTabWidget>

#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class Drawer : public QTabWidget {
    Q_OBJECT
  public:
    explicit Drawer(Session& session, QWidget* parent = nullptr);
    void refresh();

  signals:
    void findingChosen(const QString& id);

  private:
    Session& session_;
    QTableWidget *findings_, *resultants_, *quality_;
    QPlainTextEdit* log_;
};

}  // namespace escultura::app
