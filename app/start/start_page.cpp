#include "start/start_page.hpp"

#include <QDir>
#include <QFileInfo>
#include <QFrame>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QVBoxLayout>

#include "start/recent.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"

namespace escultura::app {
namespace {

constexpr int pictureWidth = 232, pictureHeight = 140;

/// A button with a picture, a name and a line below it.
QPushButton* pictureButton(const QPixmap& picture, const QString& name, const QString& detail) {
    auto* b = new QPushButton;
    theme::fix(b, theme::Length::width, pictureWidth + 16);
    theme::fix(b, theme::Length::height, pictureHeight + 66);
    b->setCursor(Qt::PointingHandCursor);
    b->setAccessibleName(name);
    auto* l = new QVBoxLayout(b);
    l->setContentsMargins(8, 8, 8, 6);
    l->setSpacing(4);
    auto* image = new QLabel;
    theme::fix(image, theme::Length::width, pictureWidth);
    theme::fix(image, theme::Length::height, pictureHeight);
    image->setAlignment(Qt::AlignCenter);
    image->setObjectName("thumbnail");
    if (picture.isNull())
        image->setText("no picture yet");
    else
        image->setPixmap(
            picture.scaled(pictureWidth, pictureHeight, Qt::KeepAspectRatioByExpanding, Qt::SmoothTransformation)
                .copy(0, 0, pictureWidth, pictureHeight));
    auto* title = new QLabel(b->fontMetrics().elidedText(name, Qt::ElideRight, pictureWidth));
    title->setProperty("role", "title");
    auto* line = new QLabel(b->fontMetrics().elidedText(detail, Qt::ElideMiddle, pictureWidth));
    line->setProperty("role", "muted");
    for (QLabel* x : {image, title, line}) {
        x->setAttribute(Qt::WA_TransparentForMouseEvents);
        l->addWidget(x);
    }
    return b;
}

QLabel* pageHeading(const QString& text) {
    auto* l = new QLabel(text);
    l->setIndent(0);
    l->setProperty("role", "title");
    l->setStyleSheet("font-size:15px; padding:0; margin:8px 0 0 0;");
    return l;
}

}  // namespace

StartPage::StartPage(const QString& demoFolder, QWidget* parent) : QWidget(parent), demoFolder_(demoFolder) {
    setObjectName("startPage");
    QWidget* leftSide = makeBeginnings();
    QVBoxLayout* right = makeOpenings();
    auto* inner = new QWidget;
    auto* columns = new QHBoxLayout(inner);
    columns->setContentsMargins(40, 32, 24, 24);
    columns->setSpacing(44);
    columns->addWidget(leftSide, 1);
    columns->addLayout(right);
    columns->addStretch(0);
    auto* scroll = new QScrollArea;
    scroll->setWidget(inner);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->addWidget(scroll);
}

QWidget* StartPage::makeBeginnings() {
    auto* leftSide = new QWidget;
    theme::fix(leftSide, theme::Length::leastWidth, 210);
    theme::fix(leftSide, theme::Length::mostWidth, 340);
    auto* left = new QVBoxLayout(leftSide);
    left->setContentsMargins(0, 0, 0, 0);
    left->setSpacing(10);
    auto* title = new QLabel("Escultura");
    title->setStyleSheet("font-size:30px; font-weight:600;");
    left->addWidget(title);
    auto* words = label(
        "From a body or the density field of a topology optimisation to a smooth surface, an editable solid, and a "
        "stress check that says whether the part may be released.");
    left->addWidget(words);
    left->addSpacing(10);
    back_ = new QPushButton;
    back_->setObjectName("startBack");
    connect(back_, &QPushButton::clicked, this, &StartPage::backAsked);
    left->addWidget(back_);
    left->addWidget(pageHeading("Begin"));
    auto* field = new QPushButton("New part from a field…");
    field->setObjectName("startField");
    field->setProperty("primary", true);
    connect(field, &QPushButton::clicked, this, &StartPage::fieldAsked);
    left->addWidget(field);
    auto* hint = label(
        "A density field: VTK image or unstructured grid, NumPy array, table of cells. The part lives in memory until "
        "you save it; "
        "nothing is written beside the field.",
        "muted");
    left->addWidget(hint);
    auto* body = new QPushButton("New part from a body…");
    body->setObjectName("startBody");
    connect(body, &QPushButton::clicked, this, &StartPage::bodyAsked);
    left->addWidget(body);
    left->addWidget(label("STEP, STL, OBJ or PLY: the design space. Its density field is made here.", "muted"));
    auto* open = new QPushButton("Open a part or a project…");
    open->setObjectName("startOpen");
    connect(open, &QPushButton::clicked, this, &StartPage::openAsked);
    left->addWidget(open);
    auto* tour = new QPushButton("Tour of five steps");
    tour->setObjectName("startTour");
    tour->setToolTip("On the rocker plate: where things are, in a minute");
    connect(tour, &QPushButton::clicked, this, &StartPage::tourAsked);
    left->addWidget(tour);
    auto* drop = label("Or drop a file anywhere in this window.", "muted");
    left->addWidget(drop);
    unsaved_ = new QVBoxLayout;
    unsaved_->setSpacing(8);
    left->addLayout(unsaved_);
    left->addStretch(1);
    return leftSide;
}

QVBoxLayout* StartPage::makeOpenings() {
    auto* right = new QVBoxLayout;
    right->setSpacing(10);
    right->addWidget(pageHeading("Demos"));
    auto* demos = new QHBoxLayout;
    demos->setSpacing(12);
    struct Demo {
        const char *file, *name, *line;
    };
    for (const Demo& d : {Demo{"rocker-plate", "Rocker plate", "small: every step in seconds"},
                          Demo{"sensor-mast-foot", "Sensor-mast foot", "three load cases, a printed foot"},
                          Demo{"tether-yoke", "Tether yoke", "four load cases, bolts and lugs"}}) {
        auto* b = pictureButton(QPixmap(QString(":/pictures/%1.png").arg(d.file)), d.name, d.line);
        b->setObjectName(QString("demo %1").arg(d.file));
        const QString path = demoFolder_ + "/" + d.file + ".json";
        connect(b, &QPushButton::clicked, this, [this, path] { emit chosen(path); });
        demos->addWidget(b);
    }
    demos->addStretch(1);
    right->addLayout(demos);
    right->addSpacing(6);
    right->addWidget(pageHeading("Open last"));
    recent_ = new QGridLayout;
    recent_->setSpacing(12);
    recent_->setColumnStretch(3, 1);
    right->addLayout(recent_);
    right->addStretch(1);
    return right;
}

QWidget* StartPage::unsavedCard(const store::Unsaved& work) {
    auto* card = new QFrame;
    card->setObjectName("card");
    auto* l = new QVBoxLayout(card);
    l->setContentsMargins(12, 10, 12, 10);
    const QString name = QString::fromStdString(work.partName).toHtmlEscaped();
    auto* words = label(QString("<b>%1</b><br/>%2 steps were not saved, the last: %3 (%4)")
                            .arg(name)
                            .arg(work.steps.size() - 1)
                            .arg(QString::fromStdString(work.steps.back().text).toHtmlEscaped(),
                                 QString::fromStdString(work.steps.back().time).replace('T', ' ')));
    l->addWidget(words);
    auto* buttons = new QHBoxLayout;
    auto* recover = new QPushButton("Recover");
    recover->setObjectName("recover");
    auto* discard = new QPushButton("Discard");
    discard->setObjectName("discardUnsaved");
    buttons->addWidget(recover);
    buttons->addWidget(discard);
    buttons->addStretch(1);
    l->addLayout(buttons);
    connect(recover, &QPushButton::clicked, this, [this, work] { emit recoverAsked(work); });
    connect(discard, &QPushButton::clicked, this, [this, work] {
        store::discard(work);
        fillUnsaved();
    });
    return card;
}

void StartPage::fillUnsaved() {
    clearLayout(unsaved_);
    const auto found = store::unsavedWork(recoveryFolder_.toStdString());
    if (!found.empty()) unsaved_->addWidget(pageHeading("Unsaved work"));
    for (std::size_t i = 0; i < std::min<std::size_t>(found.size(), 3); ++i) unsaved_->addWidget(unsavedCard(found[i]));
}

void StartPage::refresh(const QString& recoveryFolder, const QString& openPart) {
    recoveryFolder_ = recoveryFolder;
    back_->setVisible(!openPart.isEmpty());
    back_->setText("Back to " + openPart);
    fillUnsaved();
    clearLayout(recent_);
    const QList<Recent> list = recentFiles();
    for (int i = 0; i < std::min<int>(6, static_cast<int>(list.size())); ++i) {
        const Recent& r = list[i];
        auto* b = pictureButton(QPixmap::fromImage(r.picture), r.name,
                                r.when.toString("d MMM HH:mm") + " · " + QFileInfo(r.path).fileName());
        b->setObjectName(QString("recent %1").arg(i));
        b->setToolTip(r.path);
        const QString path = r.path;
        connect(b, &QPushButton::clicked, this, [this, path] { emit chosen(path); });
        recent_->addWidget(b, i / 3, i % 3);
    }
    if (list.isEmpty()) {
        auto* none = label("Nothing yet. Parts and projects that you open or save appear here.", "muted");
        none->setObjectName("noRecent");
        recent_->addWidget(none, 0, 0, 1, 3);
    }
}

}  // namespace escultura::app
