/// @file dossier/dossier.hpp
/// The calculation document as a column of seven cards.

#pragma once
#include <QFrame>
#include <QTimer>
#include <array>

#include "dossier/card.hpp"
#include "frame.hpp"
#include "judge/releases.hpp"

namespace escultura::app {

class Dossier : public QFrame {
    Q_OBJECT
  public:
    explicit Dossier(Session& session, QWidget* parent = nullptr);
    void openCard(project::Stage stage);
    void refresh();
    /// Scrolls the open card to its end.
    void showEnd();
    /// Selects a finding in its card.
    void chooseFinding(const QString& id);

  signals:
    void cardOpened(escultura::project::Stage stage);
    void showAsked(int show);
    void shapeAsked(const QString& kind);
    void placeAsked(const escultura::Vec3& place, const QString& words);
    void compareAsked(int variant);
    void addFieldAsked();
    void tableAsked(escultura::app::Table table);
    void toolAsked(escultura::app::Tool tool);
    void loadCaseChosen(int loadCase);
    void findingChosen(const QString& id);
    void exportSurface();
    void exportSolid();
    void writeRelease(const escultura::judge::SignOff& signOff, const QString& key);
    void isolateChanged(bool on);

  private:
    Session& session_;
    /// A single line for closed cards beside an open one; room below them when none is open.
    void arrange();
    std::array<Card*, project::stageCount> cards_{};
    QTimer filling_;
    std::size_t toFill_ = 0;
    class QVBoxLayout* column_;
    class FindingsCard* findings_;
};

}  // namespace escultura::app
