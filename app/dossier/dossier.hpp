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
    void showAsked(int show);
    void placeAsked(const escultura::Vec3& place, const QString& words);
    void compareAsked(int variant);
    void addFieldAsked();
    /// A table of the drawer: 0 loads and supports, 1 interfaces, 2 reactions.
    void tableAsked(int which);
    void loadCaseChosen(int loadCase);
    void findingChosen(const QString& id);
    void exportSurface();
    void exportSolid();
    void writeRelease();

  private:
    std::array<Card*, project::stageCount> cards_{};
};

}  // namespace escultura::app
