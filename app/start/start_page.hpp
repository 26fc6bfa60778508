/// @file start/start_page.hpp
/// What the window shows while nothing is open: ways to begin, demos, recent files, unsaved work.

#pragma once
#include <QWidget>

#include "store/journal.hpp"

class QPushButton;
class QVBoxLayout;
class QGridLayout;

namespace escultura::app {

class StartPage : public QWidget {
    Q_OBJECT
  public:
    /// @param demoFolder  where the demo parts are
    explicit StartPage(const QString& demoFolder, QWidget* parent = nullptr);
    /// Reads recent files and unsaved work anew. @param openPart  name of the part to go back to; empty: none is open
    void refresh(const QString& recoveryFolder, const QString& openPart);

  signals:
    void tourAsked();
    void fieldAsked();
    void bodyAsked();
    void openAsked();
    void backAsked();
    void chosen(const QString& path);
    void recoverAsked(const store::Unsaved& work);

  private:
    QWidget* makeBeginnings();    ///< what a new part begins with
    QVBoxLayout* makeOpenings();  ///< demos and recent files
    QWidget* unsavedCard(const store::Unsaved& work);
    void fillUnsaved();
    QString demoFolder_, recoveryFolder_;
    QPushButton* back_;
    QVBoxLayout* unsaved_;
    QGridLayout* recent_;
};

}  // namespace escultura::app
