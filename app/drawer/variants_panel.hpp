/// @file drawer/variants_panel.hpp
/// Variants in order: table, charts, comparison with the baseline, and what differs between their recipes.

#pragma once
#include <QComboBox>
#include <QTableWidget>

#include "plot_view.hpp"
#include "session.hpp"

namespace escultura::app {

class VariantsPanel : public QWidget {
    Q_OBJECT
  public:
    explicit VariantsPanel(Session& session, QWidget* parent = nullptr);
    void refresh();

  private:
    void refreshCharts();
    void refreshComparison();
    Session& session_;
    QTableWidget *table_, *compared_, *differs_;
    QComboBox *quantity_, *against_;
    PlotView *curve_, *scatter_;
    std::vector<std::size_t> shown_;  ///< index of the variant of each row
};

}  // namespace escultura::app
