/// @file drawer/drawer.hpp
/// Tables under the view: findings, load resultants, mesh quality, log.

#pragma once
#include <QPlainTextEdit>
#include <QTabWidget>

#include "drawer/cage_panel.hpp"
#include "drawer/duty_panel.hpp"
#include "drawer/features_panel.hpp"
#include "drawer/interfaces_panel.hpp"
#include "drawer/requirements_panel.hpp"
#include "drawer/studies_panel.hpp"
#include "drawer/variants_panel.hpp"
#include "session.hpp"
#include "stages/quantities.hpp"
#include "widgets.hpp"

namespace escultura::app {

class Drawer : public QTabWidget {
    Q_OBJECT
  public:
    explicit Drawer(Session& session, QWidget* parent = nullptr);
    void refresh();
    InterfacesPanel& interfaces() { return *interfaces_; }
    DutyPanel& duty() { return *duty_; }
    CagePanel& cage() { return *cage_; }
    FeaturesPanel& features() { return *features_; }
    /// Brings a table to the front: 0 loads and supports, 1 interfaces, 2 reactions, 3 cage, 4 features, 5
    /// requirements, 6 variants, 7 studies, 8 findings.
    void openTable(int which);
    /// Pinned places and the quantity that is read there.
    void setReadings(std::vector<Vec3> places, stages::Quantity quantity, const std::string& unit,
                     const std::string& frame);

  signals:
    void findingChosen(const QString& id);
    /// Index into the worst elements.
    void poorElementChosen(int index);
    void failed(const QString& message);
    /// A page wants to be at least this high, px.
    void roomAsked(int height);

  private:
    void refreshFindings(const LastKnown& known);
    void refreshResultants(const LastKnown& known);
    void refreshHistory();
    void refreshQuality(const LastKnown& known);
    void refreshReadings();
    Session& session_;
    InterfacesPanel* interfaces_;
    DutyPanel* duty_;
    CagePanel* cage_;
    FeaturesPanel* features_;
    RequirementsPanel* requirements_;
    VariantsPanel* variants_;
    StudiesPanel* studies_;
    QTableWidget *findings_, *resultants_, *quality_, *readings_, *history_;
    std::vector<Vec3> places_;
    stages::Quantity quantity_ = stages::Quantity::vonMises;
    std::string unit_, frame_;
    QPlainTextEdit* log_;
};

}  // namespace escultura::app
