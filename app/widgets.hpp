/// @file widgets.hpp
/// Small widgets used all over: numbers with units, labels with roles, tables.

#pragma once
#include <QLabel>
#include <QLayout>
#include <QLineEdit>
#include <QTableWidget>

#include "base/quantity.hpp"

namespace escultura::app {

/// A number with a unit that accepts units and arithmetic. Errors are shown at the field.
class QuantityEdit : public QLineEdit {
    Q_OBJECT
  public:
    /// @param unit  shown unit; empty for pure numbers
    QuantityEdit(Dimension dimension, const QString& unit, double least, double most, QWidget* parent = nullptr);
    /// Words that stand for 0: the program chooses, as in "automatic: 1.2 mm". Whoever types "automatic", 0 or nothing
    /// asks for it.
    void setAutomatic(const QString& words);
    /// In internal units.
    void setValue(double value);
    double value() const { return value_; }

  signals:
    void valueEntered(double value);
    /// A sentence that says what to do; empty when all is well again.
    void errorChanged(const QString& sentence);

  private:
    void accept();
    Dimension dimension_;
    QString unit_, automatic_;
    double least_, most_, value_ = 0;
};

/// Text of the core on the screen.
inline QString text(const std::string& s) {
    return QString::fromStdString(s);
}

QLabel* label(const QString& text, const char* role = nullptr, QWidget* parent = nullptr);

/// A flat read-only table of texts; numbers (texts that start with one) are right-aligned. Sorting by header click.
QTableWidget* table(const QStringList& head, QWidget* parent = nullptr);
void fill(QTableWidget* table, const QList<QStringList>& rows);
/// Height that shows all rows, at most `most`.
void fitHeight(QTableWidget* table, int most = 400);
QString tableAsCsv(const QTableWidget* table);

/// A second, narrower view of a table: the same rows and the same selection, some of its columns.
class QTableView* briefOf(QTableWidget* table, const QList<int>& columns, const char* objectName);

/// Widgets side by side, on as many lines as they need.
class FlowLayout : public QLayout {
  public:
    explicit FlowLayout(int spacing = 6) { setSpacing(spacing), setContentsMargins(0, 0, 0, 0); }
    ~FlowLayout() override;
    void addItem(QLayoutItem* item) override { items_.push_back(item); }
    int count() const override { return static_cast<int>(items_.size()); }
    QLayoutItem* itemAt(int index) const override { return items_.value(index); }
    QLayoutItem* takeAt(int index) override { return index >= 0 && index < count() ? items_.takeAt(index) : nullptr; }
    bool hasHeightForWidth() const override { return true; }
    int heightForWidth(int width) const override { return place(QRect(0, 0, width, 0), false); }
    QSize sizeHint() const override { return minimumSize(); }
    QSize minimumSize() const override;
    void setGeometry(const QRect& rect) override;

  private:
    /// @return the height that the lines take
    int place(const QRect& rect, bool move) const;
    QList<QLayoutItem*> items_;
};

/// Removes all items of a layout; their widgets go when the event loop is next idle.
void clearLayout(QLayout* layout);

/// An input as it was given: no padding zeros.
QString plain(double v);
/// Short number for the screen.
QString num(double v, int significant = 3);

}  // namespace escultura::app
