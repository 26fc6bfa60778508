/// @file dossier/making_panel.hpp
/// How the field is made from the duty: aim, limits, grid and rules; the run with its curve.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QPushButton>

#include "chart.hpp"
#include "dossier/card_parts.hpp"
#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class MakingPanel : public QWidget {
    Q_OBJECT
  public:
    explicit MakingPanel(Session& session, QWidget* parent = nullptr);
    void refresh();

  private:
    void makeInputs();
    void layOut();
    void connectInputs();
    void edit(const QString& text, const std::function<void(duty::Optimisation&)>& change);
    void readRule();
    QString forecast() const;
    QString outcome() const;
    Session& session_;
    QComboBox *aim_, *cases_, *rule_;
    QuantityEdit *share_, *mass_, *factor_, *compliance_, *cell_, *radius_, *steps_;
    DirectionEdit* direction_;
    QCheckBox* symmetric_;
    QWidget *shareRow_, *massRow_, *casesRow_, *factorRow_, *complianceRow_;
    QLabel *forecast_, *state_, *error_;
    QWidget *settings_, *more_;  ///< hidden while it runs; cells, rules and the curve
    QPushButton *optimise_, *keep_, *showMore_;
    Chart* curve_;
};

}  // namespace escultura::app
