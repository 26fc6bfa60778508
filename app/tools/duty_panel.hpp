/// @file tools/duty_panel.hpp
/// Load cases, loads, supports and combinations: a list with a form for the chosen line, and a table of all.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QListWidget>
#include <QPushButton>

#include "duty/load_kind.hpp"
#include "duty/load_table.hpp"
#include "duty/support_kind.hpp"
#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class DutyPanel : public QWidget {
    Q_OBJECT
  public:
    explicit DutyPanel(Session& session, QWidget* parent = nullptr);
    void refresh();
    /// All lines with all their words. Stands in the drawer.
    QTableWidget* table() { return table_; }
    /// Shows what a table of loads would change, and takes it when the user agrees.
    void importTable(const QString& path);

  signals:
    void failed(const QString& message);
    /// Index of the case of the chosen line.
    void loadCaseChosen(int loadCase);

  private:
    void makeInputs();
    void makeForm();
    void layOut();
    void connectInputs();
    struct Line {
        enum class Kind { loadCase, load, shared, support, combination } kind;
        int at = 0;     ///< index of case, shared load, support or combination
        int load = -1;  ///< index of the load in its case
    };
    void choose(int row);
    void showForm();
    /// Fills the figures of the kind that is chosen in the form.
    void putKind();
    /// Offers the sets of supports that there are.
    void fillSets(const std::string& chosen);
    void apply();
    void add(Line::Kind kind);
    void remove();
    void change(const QString& text, const std::function<std::string(const duty::Part&)>& edit);
    duty::Load formLoad() const;
    duty::Support formSupport() const;
    /// The rows of the form for figures of a load or a support.
    struct FigureRow {
        QLabel* name;
        QWidget* row;
        QList<QLineEdit*> edits;  ///< x, y, z; the first alone for a number
        QCheckBox* yes;           ///< instead of them
    };
    template <class Owner>
    void putFigures(const std::vector<duty::Figure<Owner>>& figures, const Owner& owner);
    template <class Owner>
    QSet<QString> nameFigures(const std::vector<duty::Figure<Owner>>& figures);
    /// @throws InputError naming the figure
    template <class Owner>
    void takeFigures(const std::vector<duty::Figure<Owner>>& figures, Owner& owner) const;
    duty::FaceReference formFaces() const;

    Session& session_;
    std::vector<Line> lines_;
    int chosen_ = -1;
    bool filling_ = false;
    QTableWidget* table_;
    QPushButton *addCase_, *addLoad_, *addSupport_, *addCombination_, *remove_, *import_, *apply_;
    QWidget* form_;
    QLabel *error_, *hint_;
    QComboBox *kind_, *face_, *frame_, *set_, *use_, *share_;
    QListWidget *interfaces_, *held_;
    QLineEdit *name_, *factor_, *sum_;
    QList<FigureRow> figures_;
    QCheckBox* on_;
    QList<QPair<QString, QWidget*>> rows_;
};

}  // namespace escultura::app
