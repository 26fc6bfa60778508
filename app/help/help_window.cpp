#include "help/help_window.hpp"

#include <QDesktopServices>
#include <QDir>
#include <QHBoxLayout>
#include <QKeyEvent>

#include "theme/theme.hpp"

namespace escultura::app {

using project::Stage;

QString docsFolder() {
    return QDir(ESCULTURA_DOCS_FOLDER).exists() ? ESCULTURA_DOCS_FOLDER : ESCULTURA_INSTALLED_DOCS;
}

HelpWindow::HelpWindow(QWidget* parent) : QWidget(parent, Qt::Window) {
    setObjectName("helpWindow");
    setWindowTitle("Help – Escultura");
    resize(theme::px(900), theme::px(680));
    pages_ = new QListWidget;
    pages_->setObjectName("helpPages");
    pages_->setFrameShape(QFrame::NoFrame);
    theme::fix(pages_, theme::Length::width, 220);
    for (const auto& [file, words] :
         std::initializer_list<std::pair<const char*, const char*>>{{"guide.md", "From body to release"},
                                                                    {"keys.md", "Keys and mouse"},
                                                                    {"part-file.md", "Part file"},
                                                                    {"interfaces.md", "Interfaces"},
                                                                    {"optimise.md", "Fields made here"},
                                                                    {"surface.md", "Surface"},
                                                                    {"rebuild.md", "Rebuild"},
                                                                    {"solvers.md", "Solvers"},
                                                                    {"analyses.md", "Further analyses"},
                                                                    {"findings.md", "Findings to release"},
                                                                    {"files.md", "Files"},
                                                                    {"glossary.md", "Glossary"},
                                                                    {"verification.md", "Verification"},
                                                                    {"promises.md", "What is promised"}}) {
        if (!QFile::exists(docsFolder() + "/" + file)) continue;
        auto* item = new QListWidgetItem(words, pages_);
        item->setData(Qt::UserRole, QString(file));
    }
    text_ = new QTextBrowser;
    text_->setObjectName("helpText");
    text_->setFrameShape(QFrame::NoFrame);
    text_->setOpenLinks(false);
    text_->setSearchPaths({docsFolder()});
    text_->document()->setDocumentMargin(20);
    text_->setAccessibleName("Page of the help");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(0);
    row->addWidget(pages_);
    row->addWidget(text_, 1);
    connect(pages_, &QListWidget::currentItemChanged, this, [this](QListWidgetItem* item) {
        if (!item) return;
        text_->setSource(QUrl::fromLocalFile(docsFolder() + "/" + item->data(Qt::UserRole).toString()),
                         QTextDocument::MarkdownResource);
    });
    connect(text_, &QTextBrowser::anchorClicked, this, [this](const QUrl& link) {
        const QString file = QFileInfo(link.path()).fileName();
        if (file.endsWith(".md"))
            open(file);
        else if (link.path().isEmpty())
            text_->scrollToAnchor(link.fragment());
        else
            QDesktopServices::openUrl(QUrl::fromLocalFile(QDir(docsFolder()).absoluteFilePath(link.path())));
    });
}

QString HelpWindow::pageOf(Stage card) {
    switch (card) {
        case Stage::duty:
            return "interfaces.md";
        case Stage::field:
            return "optimise.md";
        case Stage::surface:
            return "surface.md";
        case Stage::rebuild:
            return "rebuild.md";
        case Stage::check:
            return "solvers.md";
        case Stage::findings:
        case Stage::release:
            break;
    }
    return "findings.md";
}

QString HelpWindow::current() const {
    return pages_->currentItem() ? pages_->currentItem()->data(Qt::UserRole).toString() : QString();
}

void HelpWindow::open(const QString& page) {
    for (int k = 0; k < pages_->count(); ++k)
        if (pages_->item(k)->data(Qt::UserRole).toString() == page) pages_->setCurrentRow(k);
    show();
    raise();
    activateWindow();
}

void HelpWindow::keyPressEvent(QKeyEvent* e) {
    if (e->key() == Qt::Key_Escape)
        close();
    else
        QWidget::keyPressEvent(e);
}

}  // namespace escultura::app
