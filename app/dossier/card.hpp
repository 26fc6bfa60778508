/// @file dossier/card.hpp
/// One card of the dossier: number, title, one line of figures and freshness; open: controls, figures and reason that
/// scroll by themselves under the title, and one action that stays at the foot.

#pragma once
#include <QFrame>
#include <QLabel>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QScrollArea>
#include <QVBoxLayout>

#include "session.hpp"

namespace escultura::app {

class Card : public QFrame {
    Q_OBJECT
  public:
    Card(Session& session, project::Stage stage, QWidget* parent = nullptr);
    project::Stage stage() const { return stage_; }
    bool isOpen() const { return open_; }
    void setOpen(bool open);
    /// Fills a closed card as if it were open, so that it opens at once.
    void fillAhead();
    /// Closed cards beside an open one take a single line.
    void setCompact(bool compact);
    /// Scrolls the open card to its end.
    void showEnd();
    /// Takes over what the session holds now.
    void refresh();

  signals:
    void headerClicked();

  protected:
    /// Layout of the open card's contents.
    QVBoxLayout* body() { return bodyLayout_; }
    /// The closed card's line of figures.
    virtual QString summary() const = 0;
    /// State at the right of the header; default: freshness.
    virtual QString state(QColor& colour) const;
    virtual void refreshBody() {}
    /// The one main action at the end of the card.
    QPushButton* addAction(const QString& text, const char* objectName);
    void mousePressEvent(QMouseEvent* e) override;
    void keyPressEvent(QKeyEvent* e) override;
    void resizeEvent(QResizeEvent* e) override;

    Session& session_;

  private:
    project::Stage stage_;
    bool open_ = false, compact_ = false;
    QLabel *summary_, *brief_, *state_;
    QScrollArea* scroll_;
    QWidget *bodyWidget_, *foot_;
    QVBoxLayout* bodyLayout_;
    QPlainTextEdit* reason_ = nullptr;
    QLabel* reasonLabel_ = nullptr;
    void addReason();
    void showBrief();
    friend class Dossier;
};

/// Rich text of a row "name value" pairs, right column bold.
QString figures(const QList<QPair<QString, QString>>& pairs);

}  // namespace escultura::app
