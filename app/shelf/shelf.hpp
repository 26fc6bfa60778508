/// @file shelf/shelf.hpp
/// The variants, in a line or as cards: thumbnail, name, mass, safety factor, what is not met or out of date.

#pragma once
#include <QFrame>
#include <QHBoxLayout>
#include <QToolButton>
#include <map>

#include "session.hpp"

namespace escultura::app {

class Shelf : public QFrame {
    Q_OBJECT
  public:
    explicit Shelf(Session& session, QWidget* parent = nullptr);
    void refresh();
    /// Picture of the open variant.
    void setThumbnail(std::int64_t variant, const QImage& image);

  signals:
    void variantMenu(std::size_t variant, const QPoint& where);
    void newVariant();
    /// A variant is to be shown beside the open one, or no longer.
    void besideAsked(std::size_t variant);

  private:
    /// Whether a variant meets what is required, in a few words.
    QString verdictOf(std::size_t variant) const;
    /// What a variant has otherwise than the one that it was copied from, in a few words. @param all  a line each
    QString differenceOf(std::size_t variant, QString& all) const;
    Session& session_;
    QHBoxLayout* row_;
    QToolButton* size_;
    bool large_ = false;
    std::map<std::int64_t, QPixmap> thumbnails_;
};

}  // namespace escultura::app
