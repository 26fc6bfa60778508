#include "dossier/member_list.hpp"

#include <QHeaderView>
#include <QVBoxLayout>

#include "dossier/card_parts.hpp"

namespace escultura::app {

using duty::MemberFate;

namespace {

constexpr std::size_t mostRows = 200;

QComboBox* fates() {
    auto* box = new QComboBox;
    for (int f = 0; f < 4; ++f) box->addItem(duty::name(static_cast<MemberFate>(f)));
    return box;
}

}  // namespace

MemberList::MemberList(QWidget* parent) : QWidget(parent) {
    words_ = label("", "muted");
    words_->setObjectName("thinMemberWords");
    others_ = fates();
    others_->setObjectName("otherMembers");
    others_->setToolTip("What becomes of all members that have no decision of their own: until then they are kept");
    othersRow_ = field("All undecided", others_);
    table_ = new QTableWidget;
    table_->setObjectName("thinMembers");
    table_->setColumnCount(3);
    table_->setHorizontalHeaderLabels({"In the field", "Now", "Decision"});
    table_->verticalHeader()->hide();
    table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    table_->horizontalHeader()->setSectionResizeMode(1, QHeaderView::ResizeToContents);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setAccessibleName("Thin members");
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->addWidget(words_);
    rows->addWidget(table_);
    rows->addWidget(othersRow_);
    connect(others_, &QComboBox::activated, this, [this](int f) { emit othersDecided(static_cast<MemberFate>(f)); });
    auto look = [this](int row) {
        if (row < 0 || static_cast<std::size_t>(row) >= members_.size()) return;
        const auto& m = members_[static_cast<std::size_t>(row)];
        emit placeAsked(m.at, "member of " + num(m.thickness) + " mm");
    };
    connect(table_, &QTableWidget::cellClicked, this, look);
    connect(table_, &QTableWidget::cellActivated, this, look);
}

void MemberList::show(const stages::SurfaceResult* surface, const duty::ThinMembers& chosen) {
    members_ = surface ? surface->members : std::vector<stages::ThinMember>();
    const QString smallest = surface ? num(surface->smallestMember) + " mm" : QString();
    words_->setText(
        !surface           ? QString()
        : members_.empty() ? "No member of the field is thinner than " + smallest + "."
        : members_.size() > mostRows
            ? QString("%1 members are thinner than %2; the thinnest %3:")
                  .arg(members_.size())
                  .arg(smallest)
                  .arg(mostRows)
            : QString("%1 thinner than %2:")
                  .arg(members_.size() == 1 ? "1 member is" : QString("%1 members are").arg(members_.size()))
                  .arg(smallest));
    table_->setVisible(!members_.empty());
    othersRow_->setVisible(!members_.empty() || chosen.others != MemberFate::undecided);
    others_->setCurrentIndex(static_cast<int>(chosen.others));
    const int rows = static_cast<int>(std::min(members_.size(), mostRows));
    table_->setRowCount(rows);
    for (int row = 0; row < rows; ++row) {
        const auto& m = members_[static_cast<std::size_t>(row)];
        table_->setItem(row, 0, new QTableWidgetItem(QString("%1 mm, %2 long").arg(num(m.thickness), num(m.length))));
        table_->setItem(row, 1,
                        new QTableWidgetItem(m.fate == MemberFate::leaveOut && m.after < 0.25 * m.thickness
                                                 ? QString("out")
                                                 : num(m.after) + " mm"));
        auto* box = fates();
        box->setCurrentIndex(static_cast<int>(m.fate));
        box->setAccessibleName(QString("Decision on member %1").arg(row + 1));
        connect(box, &QComboBox::activated, this,
                [this, at = m.at](int f) { emit decided(at, static_cast<MemberFate>(f)); });
        table_->setCellWidget(row, 2, box);
    }
    fitHeight(table_, 190);
}

}  // namespace escultura::app
