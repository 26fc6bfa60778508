/// @file drawer/drawer.hpp
/// Tables under the view: those of the open card, and on request variants, studies, history and log. May stand in a
/// window of its own.

#pragma once
#include <QPlainTextEdit>
#include <QTabWidget>
#include <QToolButton>
#include <set>

#include "drawer/requirements_panel.hpp"
#include "drawer/studies_panel.hpp"
#include "drawer/variants_panel.hpp"
#include "frame.hpp"
#include "session.hpp"
#include "stages/quantities.hpp"
#include "tools/tool_pane.hpp"
#include "widgets.hpp"

namespace escultura::app {

class Drawer : public QTabWidget {
    Q_OBJECT
  public:
    /// @param tools  whose tables stand here
    Drawer(Session& session, ToolPane& tools, QWidget* parent = nullptr);
    void refresh();
    /// Shows a card's tables; the one that was last looked at there comes to the front.
    void showFor(project::Stage card);
    /// Brings a table to the front. One that is of no card stays until it is closed.
    void openTable(Table table);
    Table current() const { return static_cast<Table>(currentIndex()); }
    /// Whether a table is among those that are offered now.
    bool offers(Table table) const { return isTabVisible(static_cast<int>(table)); }
    /// Pinned places and the quantity that is read there.
    void setReadings(std::vector<Vec3> places, stages::Quantity quantity, const std::string& unit,
                     const std::string& frame);
    /// What the button says that takes the drawer out of the window, or back into it.
    void setDetached(bool on);

  signals:
    void findingChosen(const QString& id);
    /// Index into the worst elements.
    void poorElementChosen(int index);
    void failed(const QString& message);
    /// A page wants to be at least this high, px.
    void roomAsked(int height);
    /// A place of a table's row is to be shown.
    void placeAsked(const escultura::Vec3& place, const QString& words);
    void closeAsked();
    /// To stand in a window of its own, or no longer.
    void detachAsked(bool on);

  protected:
    void closeEvent(QCloseEvent* e) override;

  private:
    void makeTables();
    void makeCorner();
    void offer();
    void refreshFields();
    void refreshLosses(const LastKnown& known);
    void refreshReleases();
    void refreshFindings(const LastKnown& known);
    void refreshResultants(const LastKnown& known);
    void refreshHistory();
    void refreshQuality(const LastKnown& known);
    void refreshReadings();
    Session& session_;
    ToolPane& tools_;
    RequirementsPanel* requirements_;
    VariantsPanel* variants_;
    StudiesPanel* studies_;
    QTableWidget *findings_, *resultants_, *quality_, *readings_, *history_, *fields_, *losses_, *releases_;
    QToolButton* window_;
    bool changing_ = false;
    project::Stage card_ = project::Stage::duty;
    std::array<int, project::stageCount> lookedAt_{};  ///< table of each card; -1: none yet
    std::set<int> extra_;                              ///< open tables that are of no card
    std::vector<std::pair<Vec3, QString>> lossPlaces_;
    std::vector<Vec3> places_;
    stages::Quantity quantity_ = stages::Quantity::vonMises;
    std::string unit_, frame_;
    QPlainTextEdit* log_;
};

}  // namespace escultura::app
