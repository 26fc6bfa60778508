/// @file view/view_bar.hpp
/// What the view shows, in three groups: what is shown, how it is coloured, how it is cut and moved. What does not
/// apply is absent; the rest is in a menu.

#pragma once
#include <QComboBox>
#include <QFrame>
#include <QPushButton>

#include "report/part_scene.hpp"
#include "session.hpp"
#include "widgets.hpp"

class QAction;
class QActionGroup;
class QWidgetAction;
class QResizeEvent;

namespace escultura::app {

class ViewBar : public QFrame {
    Q_OBJECT
  public:
    explicit ViewBar(Session& session, QWidget* parent = nullptr);
    /// Lists the part's cases; enables what there are results for.
    void refresh();
    report::SceneOptions options() const;
    void setShow(report::Show show);
    /// Shows the first shape of a further analysis. @param kind  AnalysisKind::key
    void showShapes(const QString& kind);
    void setLoadCase(int loadCase);
    void setQuantity(report::Quantity quantity);
    void setCompareWith(int variant) { compareWith_ = variant; }
    QPushButton* drawerButton() { return drawer_; }

    /// Whether the deformed shape is to swing.
    bool isAnimated() const { return animate_->isChecked(); }
    /// Whether the difference to the baseline is shown instead of the quantity.
    bool showsDifference() const { return difference_->isChecked(); }
    bool showsBaselineGhost() const;
    void setBaselineBeside(bool on);
    void stopAnimation() { animate_->setChecked(false); }

  signals:
    void changed();
    void fitAsked();
    void animationToggled(bool on);
    void baselineBesideAsked(bool on);

  protected:
    void resizeEvent(QResizeEvent* e) override;

  private:
    /// As high as its lines: a splitter would not ask.
    void fitHeight();
    struct ShownShape {
        std::string kind;
        int index;
        QString title;
    };
    QComboBox* combo(const char* objectName, const QString& words);
    QPushButton* toggle(const QString& text, const char* objectName, bool on);
    /// A line between groups.
    QFrame* divide();
    void makeShown();
    void makeColours();
    void makeMoves();
    void fillShow();
    /// Hides what has no meaning for what is shown. @param noCases  there is none to choose
    void showWhatApplies(report::Show show, bool noCases);
    QMenu* makeMenu();
    /// Shapes of all analyses of the variant's check, in the order of the list.
    void listShapes();
    Session& session_;
    FlowLayout* line_;
    std::vector<ShownShape> shapes_;
    QComboBox *show_, *case_, *quantity_, *unit_, *shape_, *beside_, *section_;
    int compareWith_ = -1;
    QPushButton *bands_, *loads_, *fit_, *drawer_, *animate_, *more_;
    QAction *lines_, *flags_, *undeformed_, *difference_, *besideBaseline_;
    QActionGroup *vectors_, *frames_;
    QFrame *coloured_, *last_;  ///< lines before the colours and before the menu
    QMenu* frameMenu_;
    QLineEdit* only_;
    QWidgetAction* onlyAction_;
};

}  // namespace escultura::app
