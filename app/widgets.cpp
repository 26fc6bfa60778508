#include "widgets.hpp"

#include <QHeaderView>
#include <QStyle>
#include <QTableView>

#include "base/error.hpp"
#include "theme/theme.hpp"
#include "tips.hpp"

namespace escultura::app {

QuantityEdit::QuantityEdit(Dimension dimension, const QString& unit, double least, double most, QWidget* parent)
    : QLineEdit(parent), dimension_(dimension), unit_(unit), least_(least), most_(most) {
    connect(this, &QLineEdit::editingFinished, this, &QuantityEdit::accept);
    setToolTip(unit.isEmpty() ? "A number; arithmetic is allowed"
                              : "A number with or without a unit; arithmetic is allowed, as in 1/8 in");
}

void QuantityEdit::setAutomatic(const QString& words) {
    automatic_ = words;
    setValue(value_);
}

void QuantityEdit::setValue(double value) {
    value_ = value;
    const double scale = unit_.isEmpty() ? 1 : unitScale(unit_.toStdString());
    QString text = QString::number(value / scale, 'g', 5);
    if (!unit_.isEmpty()) text += " " + unit_;
    if (value == 0 && !automatic_.isEmpty()) text = automatic_;
    if (!hasFocus() || !isModified()) setText(text);
}

void QuantityEdit::accept() {
    if (!isModified()) return;  // the shown digits are rounded: only what was typed counts
    QString error;
    double v = value_;
    const QString typed = text().trimmed();
    const bool automatic =
        !automatic_.isEmpty() && (typed.isEmpty() || typed == automatic_ || typed == automatic_.section(':', 0, 0));
    try {
        v = automatic ? 0 : parseQuantity(text().toStdString(), dimension_, unit_.toStdString());
        const double scale = unit_.isEmpty() ? 1 : unitScale(unit_.toStdString());
        if (!automatic && (v < least_ || v > most_))
            error = QString("Type a value from %1 to %2 %3.").arg(num(least_ / scale), num(most_ / scale), unit_);
    } catch (const InputError& e) {
        error = QString::fromStdString("Type " + e.detail().expected + "; found " + e.detail().found + ".");
    }
    setProperty("wrong", !error.isEmpty());
    style()->unpolish(this);
    style()->polish(this);
    emit errorChanged(error);
    if (!error.isEmpty()) return;
    setModified(false);
    const bool changed = v != value_;
    setValue(v);
    if (changed) emit valueEntered(v);
}

QLabel* label(const QString& text, const char* role, QWidget* parent) {
    auto* l = new QLabel(text, parent);
    l->setWordWrap(true);
    l->setTextInteractionFlags(Qt::TextSelectableByMouse);
    if (role) l->setProperty("role", role);
    return l;
}

QTableWidget* table(const QStringList& head, QWidget* parent) {
    auto* t = new QTableWidget(0, static_cast<int>(head.size()), parent);
    t->setHorizontalHeaderLabels(head);
    for (int c = 0; c < t->columnCount(); ++c)
        if (auto* item = t->horizontalHeaderItem(c)) item->setToolTip(tipOf(head[c]));
    t->verticalHeader()->hide();
    t->verticalHeader()->setDefaultSectionSize(theme::px(26));
    t->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    t->horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    t->horizontalHeader()->setStretchLastSection(true);
    t->horizontalHeader()->setHighlightSections(false);
    t->setEditTriggers(QAbstractItemView::NoEditTriggers);
    t->setSelectionBehavior(QAbstractItemView::SelectRows);
    t->setSelectionMode(QAbstractItemView::SingleSelection);
    t->setShowGrid(false);
    t->setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    t->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    t->setFrameShape(QFrame::NoFrame);
    t->setFocusPolicy(Qt::StrongFocus);
    return t;
}

void fill(QTableWidget* t, const QList<QStringList>& rows) {
    t->setSortingEnabled(false);
    QHeaderView* header = t->horizontalHeader();
    header->setSortIndicator(-1, Qt::AscendingOrder);
    // columns fit their contents once at the end: a header that follows every cell measures the whole column each time
    std::vector<QHeaderView::ResizeMode> modes;
    for (int c = 0; c < t->columnCount(); ++c) {
        modes.push_back(header->sectionResizeMode(c));
        header->setSectionResizeMode(c, QHeaderView::Interactive);
    }
    t->setRowCount(static_cast<int>(rows.size()));
    for (int r = 0; r < rows.size(); ++r)
        for (int c = 0; c < rows[r].size() && c < t->columnCount(); ++c) {
            auto* item = new QTableWidgetItem(rows[r][c]);
            bool isNumber = false;
            rows[r][c].section(' ', 0, 0).toDouble(&isNumber);
            if (isNumber) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            t->setItem(r, c, item);
        }
    for (int c = 0; c < t->columnCount(); ++c) header->setSectionResizeMode(c, modes[static_cast<std::size_t>(c)]);
}

void fitHeight(QTableWidget* t, int most) {
    int height = t->horizontalHeader()->sizeHint().height() + 6;
    t->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    for (int r = 0; r < t->rowCount(); ++r) height += t->rowHeight(r);
    t->setFixedHeight(std::min(height, most));
}

QString tableAsCsv(const QTableWidget* t) {
    auto quoted = [](QString s) {
        return s.contains(',') || s.contains('"') ? "\"" + s.replace("\"", "\"\"") + "\"" : s;
    };
    QString csv;
    for (int r = -1; r < t->rowCount(); ++r) {
        QStringList cells;
        for (int c = 0; c < t->columnCount(); ++c) {
            const auto* item = r < 0 ? t->horizontalHeaderItem(c) : t->item(r, c);
            cells << quoted(item ? item->text() : "");
        }
        csv += cells.join(',') + "\n";
    }
    return csv;
}

QTableView* briefOf(QTableWidget* whole, const QList<int>& columns, const char* objectName) {
    auto* view = new QTableView;
    view->setObjectName(objectName);
    view->setModel(whole->model());
    view->setSelectionModel(whole->selectionModel());
    for (int c = 0; c < whole->columnCount(); ++c) view->setColumnHidden(c, !columns.contains(c));
    view->verticalHeader()->hide();
    view->verticalHeader()->setDefaultSectionSize(theme::px(26));
    view->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    view->horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    view->horizontalHeader()->setStretchLastSection(true);
    view->horizontalHeader()->setHighlightSections(false);
    view->setEditTriggers(QAbstractItemView::NoEditTriggers);
    view->setSelectionBehavior(QAbstractItemView::SelectRows);
    view->setSelectionMode(whole->selectionMode());
    view->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    view->setShowGrid(false);
    view->setFrameShape(QFrame::NoFrame);
    return view;
}

FlowLayout::~FlowLayout() {
    qDeleteAll(items_);
}

QSize FlowLayout::minimumSize() const {
    QSize size;
    for (const QLayoutItem* item : items_)
        if (!item->isEmpty()) size = size.expandedTo(item->minimumSize());  // not hidden
    return size;
}

void FlowLayout::setGeometry(const QRect& rect) {
    QLayout::setGeometry(rect);
    place(rect, true);
}

int FlowLayout::place(const QRect& rect, bool move) const {
    // a line at a time: its widgets stand on one middle
    int y = rect.y();
    for (int first = 0; first < items_.size();) {
        int end = first, x = rect.x(), height = 0;
        for (; end < items_.size(); ++end) {
            if (items_[end]->isEmpty()) continue;  // hidden
            const QSize size = items_[end]->sizeHint();
            if (x > rect.x() && x + size.width() > rect.right() + 1) break;
            x += size.width() + spacing();
            height = std::max(height, size.height());
        }
        x = rect.x();
        for (; first < end; ++first) {
            if (items_[first]->isEmpty()) continue;
            const QSize size = items_[first]->sizeHint();
            const int width = std::min(size.width(), std::max(rect.width(), 1));
            if (move) items_[first]->setGeometry(QRect(x, y + (height - size.height()) / 2, width, size.height()));
            x += size.width() + spacing();
        }
        if (height > 0) y += height + spacing();
    }
    return std::max(0, y - rect.y() - spacing());
}

void clearLayout(QLayout* layout) {
    while (QLayoutItem* item = layout->takeAt(0)) {
        if (QWidget* w = item->widget()) {
            w->hide();
            w->deleteLater();
        }
        delete item;
    }
}

QString plain(double v) {
    return QString::number(v, 'g', 6);
}

QString num(double v, int significant) {
    return QString::fromStdString(formatNumber(v, significant));
}

}  // namespace escultura::app
