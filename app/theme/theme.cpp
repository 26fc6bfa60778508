#include "theme/theme.hpp"

#include <QApplication>
#include <QFontDatabase>
#include <QPalette>
#include <QStyleFactory>

static void initResources() {
    Q_INIT_RESOURCE(icons);  // kept in a library: the linker must be told that they are used
}

namespace escultura::app::theme {

void apply(QApplication& application) {
    initResources();
    application.setStyle(QStyleFactory::create("Fusion"));
    QFont font(QFontDatabase::families().contains("Inter") ? "Inter" : application.font().family());
    font.setPixelSize(13);
    font.setStyleStrategy(QFont::PreferAntialias);
    application.setFont(font);
    QPalette p;
    p.setColor(QPalette::Window, paper);
    p.setColor(QPalette::Base, card);
    p.setColor(QPalette::AlternateBase, paper);
    p.setColor(QPalette::Button, card);
    for (auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText, QPalette::ToolTipText})
        p.setColor(role, ink);
    p.setColor(QPalette::ToolTipBase, card);
    p.setColor(QPalette::PlaceholderText, muted);
    p.setColor(QPalette::Highlight, clay);
    p.setColor(QPalette::HighlightedText, Qt::white);
    for (auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText})
        p.setColor(QPalette::Disabled, role, QColor(0xA8, 0xA1, 0x94));
    application.setPalette(p);
    application.setStyleSheet(R"(
        QMenuBar { background: #FFFDF8; border-bottom: 1px solid #DAD2C3; padding: 2px 6px; }
        QMenuBar::item { padding: 5px 10px; background: transparent; border-radius: 4px; }
        QMenuBar::item:selected { background: #F0EADD; }
        QMenu { background: #FFFDF8; border: 1px solid #DAD2C3; padding: 4px; }
        QMenu::item { padding: 5px 22px 5px 18px; border-radius: 4px; }
        QMenu::item:selected { background: #F0EADD; color: #2B2A27; }
        QMenu::item:disabled { color: #A8A194; }
        QMenu::separator { height: 1px; background: #DAD2C3; margin: 4px 8px; }
        QDialogButtonBox { dialogbuttonbox-buttons-have-icons: 0; }
        QPushButton { background: #FFFDF8; border: 1px solid #DAD2C3; border-radius: 6px; padding: 5px 12px; }
        QPushButton:hover { border-color: #B4532A; }
        QPushButton:focus { border-color: #B4532A; }
        QPushButton:disabled { color: #A8A194; background: #F6F2EA; }
        QPushButton[primary="true"] { background: #B4532A; color: white; border-color: #B4532A; font-weight: 600; }
        QPushButton[primary="true"]:hover { background: #9C4522; }
        QPushButton[primary="true"]:disabled { background: #DDD3C6; border-color: #DDD3C6; color: #837B6E; }
        QPushButton:checked { background: #F3E3D8; border-color: #B4532A; }
        QLineEdit, QPlainTextEdit, QComboBox, QDoubleSpinBox { background: #FFFFFF; border: 1px solid #DAD2C3; border-radius: 6px; padding: 4px 8px; selection-background-color: #B4532A; }
        QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus { border-color: #B4532A; }
        QLineEdit[wrong="true"] { border: 2px solid #B4532A; }
        QComboBox { padding: 4px 8px; }
        QComboBox::drop-down { border: 0; width: 22px; }
        QComboBox::down-arrow { image: url(:/icons/down.svg); width: 12px; height: 12px; }
        QComboBox:disabled { color: #A8A194; background: #FBF8F1; }
        QTableWidget::item { padding: 0 3px; }
        QComboBox QAbstractItemView { background: #FFFDF8; border: 1px solid #DAD2C3; selection-background-color: #F0EADD; selection-color: #2B2A27; outline: 0; }
        QTableWidget, QTableView { background: #FFFDF8; border: 0; gridline-color: #EBE4D6; selection-background-color: #F3E3D8; selection-color: #2B2A27; }
        QHeaderView::section { background: #FFFDF8; color: #6E695F; border: 0; border-bottom: 1px solid #DAD2C3; padding: 4px 6px; font-weight: 400; }
        QScrollArea { border: 0; background: transparent; }
        QScrollBar:vertical { background: transparent; width: 10px; margin: 2px; }
        QScrollBar::handle:vertical { background: #D3CABA; border-radius: 3px; min-height: 32px; }
        QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
        QScrollBar:horizontal { background: transparent; height: 10px; margin: 2px; }
        QScrollBar::handle:horizontal { background: #D3CABA; border-radius: 3px; min-width: 32px; }
        QTabWidget::pane { border: 0; border-top: 1px solid #DAD2C3; }
        QTabBar::tab { background: transparent; padding: 6px 14px; color: #6E695F; border-bottom: 2px solid transparent; }
        QTabBar::tab:selected { color: #2B2A27; border-bottom: 2px solid #B4532A; }
        QProgressBar { border: 0; background: #EBE4D6; border-radius: 3px; height: 6px; }
        QProgressBar::chunk { background: #B4532A; border-radius: 3px; }
        QToolTip { background: #FFFDF8; color: #2B2A27; border: 1px solid #DAD2C3; padding: 4px; }
        QFrame#card { background: #FFFDF8; border: 1px solid #DAD2C3; border-radius: 6px; }
        QToolTip { font-weight: 400; }
        QFrame#card:focus { border-color: #C9A48F; }
        QFrame#card[open="true"] { border: 1px solid #B4532A; }
        QLabel[role="muted"] { color: #6E695F; }
        QLabel[role="title"] { font-weight: 600; }
        QLabel[role="number"] { color: #B4532A; font-weight: 600; }
        QLabel[role="error"] { color: #9C3F1B; }
    )");
}

QIcon icon(const QString& name) {
    return QIcon(":/icons/" + name + ".svg");
}

QString coloured(const QString& text, const QColor& colour) {
    return "<span style=\"color:" + colour.name() + "\">" + text.toHtmlEscaped() + "</span>";
}

}  // namespace escultura::app::theme
