/// @file drawer/duty_panel.hpp
/// Load cases, loads, supports and combinations as a table, with a form for the chosen line.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QListWidget>
#include <QPushButton>

#include "project/load_table.hpp"
#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class DutyPanel : public QWidget {
    Q_OBJECT
  public:
    explicit DutyPanel(Session& session, QWidget* parent = nullptr);
    void refresh();
    /// Shows what a table of loads would change, and takes it when the user agrees.
    void importTable(const QString& path);

  signals:
    void failed(const QString& message);
    /// Index of the case of the chosen line.
    void loadCaseChosen(int loadCase);

  private:
    struct Line {
        enum class Kind { loadCase, load, shared, support, combination } kind;
        int at = 0;     ///< index of case, shared load, support or combination
        int load = -1;  ///< index of the load in its case
    };
    void choose(int row);
    void showForm();
    void apply();
    void add(Line::Kind kind);
    void remove();
    void change(const QString& text, const std::function<std::string(const project::Part&)>& edit);
    project::Load formLoad() const;
    project::Support formSupport() const;
    Vec3 vectorOf(const QList<QLineEdit*>& fields, Dimension dimension, const std::string& unit,
                  const char* what) const;

    Session& session_;
    std::vector<Line> lines_;
    int chosen_ = -1;
    bool filling_ = false;
    QTableWidget* table_;
    QPushButton *addCase_, *addLoad_, *addSupport_, *addCombination_, *remove_, *import_, *apply_;
    QWidget* form_;
    QLabel *error_, *hint_;
    QComboBox *kind_, *face_, *frame_, *use_, *share_;
    QListWidget *interfaces_, *held_;
    QLineEdit *name_, *factor_, *sum_;
    QList<QLineEdit*> first_, second_;  ///< force or what the kind has; moment, point or axis
    QLabel *firstName_, *secondName_;
    QCheckBox *rigid_, *on_;
    QList<QPair<QString, QWidget*>> rows_;
};

}  // namespace escultura::app
