/// @file drawer/studies_panel.hpp
/// Sweeps over the numbers of the open variant: effects ranked, ranges charted, the lightest that meets everything.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QListWidget>
#include <QPushButton>
#include <QSpinBox>
#include <QTableWidget>

#include "plot_view.hpp"
#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class StudiesPanel : public QWidget {
    Q_OBJECT
  public:
    explicit StudiesPanel(Session& session, QWidget* parent = nullptr);
    void refresh();

  signals:
    void failed(const QString& message);

  private:
    QString noteOf(const project::Study& study) const;
    std::vector<std::string> chosenPlaces() const;
    void start();
    void adoptRow();
    void showStudy();
    const project::Study* shown() const;
    Session& session_;
    QComboBox *kind_, *which_, *figure_;
    QListWidget* parameters_;
    QLineEdit *low_, *high_;
    QSpinBox* count_;
    QCheckBox* standard_;
    QPushButton *run_, *adopt_;
    QWidget* range_;
    QLabel* note_;
    QTableWidget* table_;
    PlotView* plot_;
    QString listed_;  ///< variant and numbers that the list of parameters was made from
};

}  // namespace escultura::app
