/// @file dossier/dossier.hpp
/// The calculation document as a column of seven cards.

#pragma once
#include <QScrollArea>
#include <array>

#include "dossier/card.hpp"

namespace escultura::app {

class Dossier : public QScrollArea {
    Q_OBJECT
  public:
    explicit Dossier(Session& session, QWidget* parent = nullptr);
    void openCard(project::Stage stage);
    void refresh();

  signals:
    void cardOpened(escultura::project::Stage stage);
    void showDeviation(bool on);
    void loadCaseChosen(int loadCase);
    void findingChosen(const QString& id);
    void exportSurface();
    void writeRelease();

  private:
    std::array<Card*, project::stageCount> cards_{};
};

}  // namespace escultura::app
