/// @file work_bar.hpp
/// Below everything else, while there is something to tell: what runs with its remaining time, what waits, what is
/// done.

#pragma once
#include <QFrame>
#include <QLabel>
#include <QProgressBar>
#include <QTimer>
#include <QVBoxLayout>

#include "session.hpp"

namespace escultura::app {

class WorkBar : public QFrame {
    Q_OBJECT
  public:
    explicit WorkBar(Session& session, QWidget* parent = nullptr);
    bool isRunning() const { return row_->isVisibleTo(this); }

  signals:
    /// The reader of a notice wants to see a variant.
    void variantAsked(std::int64_t id);

  private:
    QWidget* makeRow();
    void showRunning();
    void showWaiting();
    /// Tells that something has ended which is not in sight.
    void notify(const QString& words, std::int64_t variant);
    void arrange();

    Session& session_;
    QWidget* row_;
    QLabel *text_, *done_;
    QWidget* doneRow_;
    QVBoxLayout* waiting_;
    QProgressBar* bar_;
    QTimer clock_;
    qint64 started_ = 0;
    QString step_, title_;
    QStringList told_;  ///< what has ended out of sight, the latest last
};

}  // namespace escultura::app
