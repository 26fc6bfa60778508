/// @file help/help_window.hpp
/// The pages of docs/ in a window of their own.

#pragma once
#include <QListWidget>
#include <QTextBrowser>
#include <QWidget>

#include "project/project.hpp"

namespace escultura::app {

/// The source's folder of pages while developing, the installed one otherwise.
QString docsFolder();

class HelpWindow : public QWidget {
    Q_OBJECT
  public:
    explicit HelpWindow(QWidget* parent = nullptr);
    /// Opens a page by its file's name, such as "findings.md".
    void open(const QString& page);
    /// The page that tells about a card.
    static QString pageOf(project::Stage card);
    QString current() const;

  protected:
    void keyPressEvent(QKeyEvent* e) override;

  private:
    QListWidget* pages_;
    QTextBrowser* text_;
};

}  // namespace escultura::app
