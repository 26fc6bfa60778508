#include "theme/theme.hpp"

#include <QApplication>
#include <QBuffer>
#include <QFile>
#include <QFontDatabase>
#include <QHeaderView>
#include <QIconEngine>
#include <QImageReader>
#include <QPainter>
#include <QPalette>
#include <QPixmapCache>
#include <QPointer>
#include <QProxyStyle>
#include <QStyleFactory>
#include <QTableView>
#include <QTimer>
#include <QWidget>
#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

static void initResources() {
    Q_INIT_RESOURCE(icons);  // kept in a library: the linker must be told that they are used
}

namespace escultura::app::theme {

namespace {

/// Colours of a theme. Those that the style sheet names have a place in the palette: the sheet stays as it is when the
/// theme changes (setting one anew takes a second or two), only the palette does.
struct Role {
    const char* name;
    QColor* colour;
    QRgb light, dark;
    const char* place = "";                       ///< name of the palette's role in style sheets
    QPalette::ColorRole role = QPalette::NoRole;  ///< the same
};
const Role roles[] = {{"paper", &paper, 0xF6F2EA, 0x22201D, "window", QPalette::Window},
                      {"card", &card, 0xFFFDF8, 0x2B2925, "base", QPalette::Base},
                      {"ink", &ink, 0x2B2A27, 0xECE6DA, "text", QPalette::Text},
                      {"muted", &muted, 0x6E695F, 0xADA597, "placeholder-text", QPalette::PlaceholderText},
                      {"line", &line, 0xDAD2C3, 0x4A463E, "mid", QPalette::Mid},
                      {"clay", &clay, 0xAE4F27, 0xE08A5F, "bright-text", QPalette::BrightText},
                      {"teal", &teal, 0x1F6F6B, 0x7CC4BA, "link", QPalette::Link},
                      {"ochre", &ochre, 0x8C5F0A, 0xDDAA4B},
                      {"field", &field, 0xFFFFFF, 0x36332E, "link-visited", QPalette::LinkVisited},
                      {"soft", &soft, 0xF0EADD, 0x3C3831, "midlight", QPalette::Midlight},
                      {"chosen", &chosen, 0xF3E3D8, 0x4B382D, "light", QPalette::Light},
                      {"faded", &faded, 0xA8A194, 0x7D776B, "shadow", QPalette::Shadow},
                      {"shade", &shade, 0xEFE9DC, 0x38342E},
                      {"bar", &bar, 0xCBBDA2, 0x6D6556, "dark", QPalette::Dark},
                      {"paleBar", &paleBar, 0xEBE4D6, 0x403C35},
                      {"warnGround", &warnGround, 0xFBF1D9, 0x3E3423},
                      {"warnLine", &warnLine, 0xC58B1B, 0x9A7427},
                      {"wrongGround", &wrongGround, 0xFBEADF, 0x45291D, "alternate-base", QPalette::AlternateBase},
                      {"wrongLine", &wrongLine, 0xE0B49A, 0x8A4B30}};
/// Looks of all widgets; names of roles stand for their colours.
constexpr const char* sheet = R"(
        QMenuBar { background: @card; border-bottom: 1px solid @line; padding: 2px 6px; }
        QMenuBar::item { padding: 5px 10px; background: transparent; border-radius: 4px; }
        QMenuBar::item:selected { background: @soft; }
        QMenu { background: @card; border: 1px solid @line; padding: 4px; }
        QMenu::item { padding: 5px 22px 5px 18px; border-radius: 4px; }
        QMenu::item:selected { background: @soft; color: @ink; }
        QMenu::item:disabled { color: @faded; }
        QMenu::separator { height: 1px; background: @line; margin: 4px 8px; }
        QDialogButtonBox { dialogbuttonbox-buttons-have-icons: 0; }
        QPushButton { background: @card; border: 1px solid @line; border-radius: 6px; padding: 5px 12px; }
        QPushButton:hover { border-color: @clay; }
        QPushButton:focus { border-color: @clay; }
        QPushButton:disabled { color: @faded; background: @paper; }
        QPushButton[primary="true"] { background: #B4532A; color: white; border-color: #B4532A; font-weight: 600; }
        QPushButton[primary="true"]:hover { background: #9C4522; }
        QPushButton[primary="true"]:disabled { background: @soft; border-color: @line; color: @muted; }
        QPushButton:checked { background: @chosen; border-color: @clay; }
        QLineEdit, QPlainTextEdit, QComboBox, QDoubleSpinBox, QSpinBox, QListWidget { background: @field; border: 1px solid @line; border-radius: 6px; padding: 4px 8px; selection-background-color: @clay; }
        QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus { border-color: @clay; }
        QLineEdit[wrong="true"] { border: 2px solid @clay; }
        QComboBox { padding: 4px 8px; }
        QComboBox::drop-down { border: 0; width: 22px; }
        QComboBox::down-arrow { image: url(:/icons/down.svg); width: 12px; height: 12px; }
        QComboBox:disabled { color: @faded; background: @paper; }
        QTableWidget::item { padding: 0 3px; }
        QComboBox QAbstractItemView { background: @card; border: 1px solid @line; selection-background-color: @soft; selection-color: @ink; outline: 0; }
        QTableWidget, QTableView { background: @card; border: 0; gridline-color: @soft; selection-background-color: @chosen; selection-color: @ink; }
        QHeaderView::section { background: @card; color: @muted; border: 0; border-bottom: 1px solid @line; padding: 4px 6px; font-weight: 400; }
        QScrollArea { border: 0; background: transparent; }
        QScrollBar:vertical { background: transparent; width: 10px; margin: 2px; }
        QScrollBar::handle:vertical { background: @bar; border-radius: 3px; min-height: 32px; }
        QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
        QScrollBar:horizontal { background: transparent; height: 10px; margin: 2px; }
        QScrollBar::handle:horizontal { background: @bar; border-radius: 3px; min-width: 32px; }
        QTabWidget::pane { border: 0; border-top: 1px solid @line; }
        QTabBar::tab { background: transparent; padding: 6px 14px; color: @muted; border-bottom: 2px solid transparent; }
        QTabBar::tab:selected { color: @ink; border-bottom: 2px solid @clay; }
        QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button { border: 0; width: 18px; }
        QSpinBox::up-arrow, QDoubleSpinBox::up-arrow { image: url(:/icons/spin-up.svg); width: 10px; height: 10px; }
        QSpinBox::down-arrow, QDoubleSpinBox::down-arrow { image: url(:/icons/down.svg); width: 10px; height: 10px; }
        QCheckBox::indicator, QListView::indicator, QTableView::indicator { width: 13px; height: 13px; border: 1px solid @muted; border-radius: 3px; background: @field; }
        QCheckBox::indicator:checked, QListView::indicator:checked, QTableView::indicator:checked { background: #B4532A; border-color: #B4532A; image: url(:/icons/tick.svg); }
        QCheckBox::indicator:disabled { border-color: @line; background: @paper; }
        QCheckBox::indicator:checked:disabled { background: @faded; border-color: @faded; image: url(:/icons/tick.svg); }
        QCheckBox:focus { color: @clay; }
        QTabBar::close-button { image: url(:/icons/close.svg); }
        QProgressBar { border: 0; background: @soft; border-radius: 3px; height: 6px; }
        QProgressBar::chunk { background: @clay; border-radius: 3px; }
        QToolTip { background: @card; color: @ink; border: 1px solid @line; padding: 4px; }
        QFrame#card { background: @card; border: 1px solid @line; border-radius: 6px; }
        QToolTip { font-weight: 400; }
        QFrame#card:focus { border-color: @clay; }
        QFrame#card[open="true"] { border: 1px solid @clay; }
        QWidget#palette { background: @paper; border-right: 1px solid @line; }
        QFrame#sheet { background: @card; border: 0; border-right: 1px solid @line; }
        QFrame#sheet QScrollArea, QFrame#sheet QScrollArea > QWidget > QWidget { background: @card; }
        QToolButton { border: 1px solid transparent; border-radius: 6px; padding: 4px 6px; color: @ink; }
        QToolButton:hover, QToolButton:focus { border-color: @clay; }
        QToolButton:checked { background: @chosen; border-color: @clay; }
        QToolButton:disabled { color: @faded; }
        QLabel[role="muted"] { color: @muted; }
        QLabel[role="title"] { font-weight: 600; }
        QLabel[role="number"] { color: @clay; font-weight: 600; }
        QLabel[role="error"] { color: @clay; }
        QLabel#error { background: @wrongGround; border-bottom: 1px solid @clay; padding: 8px 16px; }
        QFrame#progress { background: @card; border: 0; border-top: 1px solid @line; }
        QFrame#viewBar { background: @card; border: 0; border-top: 1px solid @line; }
        QFrame#requirementStrip { background: #2B2A27; border: 0; border-top: 1px solid #55514A; }
        QFrame#requirementStrip QLabel { color: #F6F2EA; font-weight: 600; }
        QFrame#requirementStrip QPushButton { background: #35332F; border: 1px solid #55514A; color: #F6F2EA; border-radius: 6px; padding: 4px 10px; }
        QFrame#requirementStrip QPushButton:hover, QFrame#requirementStrip QPushButton:focus { border-color: #C9BEAA; }
        QFrame#tour { background: @card; border: 1px solid @clay; border-radius: 6px; }
        QFrame#tourFrame { border: 3px solid @clay; border-radius: 6px; background: transparent; }
        QFrame#divider { background: @line; border: 0; }
        QFrame#shelf { border: 0; border-bottom: 1px solid @line; }
        QLabel#thumbnail { background: @soft; border-radius: 4px; color: @muted; }
        QLabel#paneCaption { background: @soft; padding: 3px 12px; color: @ink; }
        QPushButton[dashed="true"] { border: 1px dashed @bar; color: @muted; padding: 0 16px; background: transparent; }
        QPushButton[dashed="true"]:hover { border-color: @clay; }
    )";

bool dark_ = false;
double scale_ = 1;

/// Draws a line icon in the ink of the theme that is applied when it is painted.
class LineIcon : public QIconEngine {
  public:
    explicit LineIcon(const QString& name) : name_(name) {
        QFile file(":/icons/" + name + ".svg");
        if (file.open(QIODevice::ReadOnly)) picture_ = file.readAll();
    }
    QIconEngine* clone() const override { return new LineIcon(*this); }
    bool isNull() override { return picture_.isEmpty(); }
    void paint(QPainter* painter, const QRect& rect, QIcon::Mode mode, QIcon::State state) override {
        painter->drawPixmap(rect, pixmap(rect.size() * painter->device()->devicePixelRatioF(), mode, state));
    }
    QPixmap pixmap(const QSize& size, QIcon::Mode mode, QIcon::State) override {
        const QColor colour = mode == QIcon::Disabled ? faded : ink;
        const QString key = QString("%1 %2 %3 %4").arg(name_, colour.name()).arg(size.width()).arg(size.height());
        QPixmap drawn;
        if (QPixmapCache::find(key, &drawn)) return drawn;
        QByteArray text = picture_;
        QBuffer buffer(&text.replace("#2B2A27", colour.name().toLatin1()));
        QImageReader reader(&buffer, "svg");
        reader.setScaledSize(size);
        drawn = QPixmap::fromImage(reader.read());
        QPixmapCache::insert(key, drawn);
        return drawn;
    }

  private:
    QString name_;
    QByteArray picture_;
};

}  // namespace

bool isDark() {
    return dark_;
}

report::PlotColours plotColours() {
    return {ink, muted, line, clay, teal, paleBar, bar};
}

int px(double length) {
    return static_cast<int>(std::lround(length * scale_));
}

namespace {
constexpr const char* lengthNames[] = {"fixWidth", "fixHeight", "leastWidth", "leastHeight", "mostWidth", "mostHeight"};

void fit(QWidget* w) {
    for (int k = 0; k < 6; ++k) {
        const QVariant length = w->property(lengthNames[k]);
        if (!length.isValid()) continue;
        const int size = px(length.toInt());
        switch (static_cast<Length>(k)) {
            case Length::width:
                w->setFixedWidth(size);
                break;
            case Length::height:
                w->setFixedHeight(size);
                break;
            case Length::leastWidth:
                w->setMinimumWidth(size);
                break;
            case Length::leastHeight:
                w->setMinimumHeight(size);
                break;
            case Length::mostWidth:
                w->setMaximumWidth(size);
                break;
            case Length::mostHeight:
                w->setMaximumHeight(size);
                break;
        }
    }
    if (auto* table = qobject_cast<QTableView*>(w)) table->verticalHeader()->setDefaultSectionSize(px(26));
}
}  // namespace

void fix(QWidget* widget, Length what, int length) {
    widget->setProperty(lengthNames[static_cast<int>(what)], length);
    fit(widget);
}

void refit(QWidget* root) {
    fit(root);
    for (QWidget* w : root->findChildren<QWidget*>()) fit(w);
}

namespace {
/// The toolkit's style with icons of the application's own in dialogs.
class OwnIcons : public QProxyStyle {
  public:
    OwnIcons() : QProxyStyle(QStyleFactory::create("Fusion")) {}
    QIcon standardIcon(StandardPixmap what, const QStyleOption* option, const QWidget* widget) const override {
        const char* name = nameOf(what);
        return name ? icon(name) : QProxyStyle::standardIcon(what, option, widget);
    }
    QPixmap standardPixmap(StandardPixmap what, const QStyleOption* option, const QWidget* widget) const override {
        const char* name = nameOf(what);
        const int size =
            pixelMetric(what <= SP_MessageBoxQuestion && what >= SP_MessageBoxInformation ? PM_MessageBoxIconSize
                                                                                          : PM_SmallIconSize,
                        option, widget);
        return name ? icon(name).pixmap(size) : QProxyStyle::standardPixmap(what, option, widget);
    }

  private:
    static const char* nameOf(StandardPixmap what) {
        switch (what) {
            case SP_MessageBoxQuestion:
                return "question";
            case SP_MessageBoxWarning:
                return "warning";
            case SP_MessageBoxInformation:
                return "information";
            case SP_MessageBoxCritical:
                return "problem";
            case SP_FileIcon:
                return "file";
            case SP_DirIcon:
            case SP_DirOpenIcon:
            case SP_DirClosedIcon:
                return "open";
            case SP_FileDialogNewFolder:
                return "new-folder";
            case SP_FileDialogToParent:
                return "up";
            case SP_FileDialogBack:
            case SP_ArrowBack:
            case SP_ArrowLeft:
                return "back";
            case SP_ArrowForward:
            case SP_ArrowRight:
                return "forward";
            case SP_FileDialogListView:
                return "list";
            case SP_FileDialogDetailedView:
                return "details";
            case SP_DirHomeIcon:
                return "home";
            case SP_ComputerIcon:
            case SP_DriveHDIcon:
                return "computer";
            default:
                return nullptr;
        }
    }
};

/// The style sheet with places in the palette for the names of roles.
QString withPlaces(QString words) {
    // the longer names first: @fieldset before @field
    std::vector<const Role*> order;
    for (const Role& r : roles)
        if (*r.place) order.push_back(&r);
    std::sort(order.begin(), order.end(),
              [](const Role* a, const Role* b) { return qstrlen(a->name) > qstrlen(b->name); });
    for (const Role* r : order) words.replace("@" + QString(r->name), "palette(" + QString(r->place) + ")");
    return words;
}

/// Has widgets read their rules, a few at a time: no turn of the event loop takes long.
class Styling : public QObject {
  public:
    static Styling& of(QApplication& application) {
        static QPointer<Styling> styling;
        if (!styling) styling = new Styling(application);
        return *styling;
    }
    /// Anew, those in sight at once. @param sized  sizes change too
    void again(bool sized) {
        sized_ = sized_ || sized;
        waiting_.clear();
        for (QWidget* w : QApplication::allWidgets()) {
            if (w->isVisible())
                polish(w);
            else
                waiting_.push_back(w);
        }
        timer_.start();
    }
    bool isBusy() const { return timer_.isActive(); }
    /// For the first time, before they are in sight.
    void ahead(QWidget* root) {
        for (QWidget* w : root->findChildren<QWidget*>())
            if (!w->testAttribute(Qt::WA_WState_Polished)) waiting_.push_back(w);
        timer_.start();
    }

  private:
    explicit Styling(QApplication& application) : QObject(&application) {
        timer_.setInterval(0);
        connect(&timer_, &QTimer::timeout, this, [this] { some(40); });
    }
    void some(int count) {
        for (; count > 0 && !waiting_.empty(); --count, waiting_.pop_back())
            if (waiting_.back()) polish(waiting_.back());
        if (!waiting_.empty()) return;
        timer_.stop();
        if (!std::exchange(sized_, false)) return;
        for (QWidget* w : QApplication::topLevelWidgets()) refit(w);  // their sizes are known now
    }
    void polish(QWidget* w) {
        if (w->testAttribute(Qt::WA_WState_Polished)) {
            w->style()->polish(w);
            if (sized_) {
                QEvent event(QEvent::StyleChange);
                QCoreApplication::sendEvent(w, &event);
            }
            w->update();
        } else {
            w->ensurePolished();
        }
    }
    std::vector<QPointer<QWidget>> waiting_;
    QTimer timer_;
    bool sized_ = false;
};

QPalette paletteOfRoles() {
    QPalette p;
    for (const Role& r : roles)
        if (r.role != QPalette::NoRole) p.setColor(r.role, *r.colour);
    p.setColor(QPalette::Button, card);
    for (auto role : {QPalette::WindowText, QPalette::ButtonText, QPalette::ToolTipText}) p.setColor(role, ink);
    p.setColor(QPalette::ToolTipBase, card);
    p.setColor(QPalette::Highlight, QColor(0xB4, 0x53, 0x2A));
    p.setColor(QPalette::HighlightedText, Qt::white);
    for (auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText})
        p.setColor(QPalette::Disabled, role, faded);
    return p;
}
}  // namespace

void apply(QApplication& application, bool dark, int textSize) {
    initResources();
    dark_ = dark;
    scale_ = textSize / 100.0;
    for (const Role& r : roles) *r.colour = QColor(dark ? r.dark : r.light);
    // each of these goes through every widget there is: only what changes is set
    if (!application.property("themed").toBool()) application.setStyle(new OwnIcons);
    application.setProperty("themed", true);
    QFont font(QFontDatabase::families().contains("Inter") ? "Inter" : application.font().family());
    font.setPixelSize(px(13));
    font.setStyleStrategy(QFont::PreferAntialias);
    const bool sized = application.font() != font;
    if (sized) application.setFont(font);
    application.setPalette(paletteOfRoles());
    const QString rules = withPlaces(sheet);
    if (application.styleSheet() != rules) {
        application.setStyleSheet(rules);
        return;
    }
    Styling::of(application).again(sized);
}

bool isStyling() {
    return Styling::of(*static_cast<QApplication*>(QApplication::instance())).isBusy();
}

void styleAhead(QWidget* root) {
    Styling::of(*static_cast<QApplication*>(QApplication::instance())).ahead(root);
}

QIcon icon(const QString& name) {
    return QFile::exists(":/icons/" + name + ".svg") ? QIcon(new LineIcon(name)) : QIcon();
}

QString coloured(const QString& text, const QColor& colour) {
    return "<span style=\"color:" + colour.name() + "\">" + text.toHtmlEscaped() + "</span>";
}

QString mutedText(const QString& html) {
    return "<span style='color:" + muted.name() + "'>" + html + "</span>";
}

}  // namespace escultura::app::theme
