// The window's dealings with results: animation, pictures, named views, readings.

#include <QApplication>
#include <QCheckBox>
#include <QComboBox>
#include <QDialog>
#include <QDialogButtonBox>
#include <QFileDialog>
#include <QFormLayout>
#include <QInputDialog>
#include <QMenu>
#include <QMenuBar>
#include <QSpinBox>
#include <cmath>

#include "main_window.hpp"
#include "report/animation.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace judge;

namespace {
constexpr int swingFrames = 16;  // of one swing to and fro
}

void MainWindow::connectResults() {
    connect(bar_, &ViewBar::animationToggled, this, [this](bool on) {
        swing_.clear();
        frame_ = 0;
        if (on)
            swingClock_.start(60);
        else
            swingClock_.stop();
    });
    connect(&swingClock_, &QTimer::timeout, this, &MainWindow::showNextFrame);
    connect(view_, &View::pinsChanged, this, &MainWindow::updateReadings);
    connect(drawer_, &Drawer::poorElementChosen, this, [this](int k) {
        poorElement_ = k;
        bar_->setShow(report::Show::mesh);
        bar_->refresh();
        showScene();
        const auto check = session_.lastKnown().check;
        if (check && k < static_cast<int>(check->quality.worst.size()))
            view_->flyTo(check->quality.worst[static_cast<std::size_t>(k)].middle);
    });
}

void MainWindow::connectRebuild() {
    editor_ = new CageEditor(session_, *view_, this);
    tools_->cage().setEditor(editor_);
    connect(editor_, &CageEditor::failed, this, &MainWindow::showError);
    connect(editor_, &CageEditor::stateChanged, this, [this] {
        error_->hide();
        if (!editor_->isOn()) showScene();
    });
    connect(view_, &View::clickedAt, editor_, &CageEditor::clickedAt);
    connect(view_, &View::regionDrawn, editor_, &CageEditor::regionDrawn);
    connect(view_, &View::painted, editor_, &CageEditor::paintAt);
    connect(dossier_, &Dossier::exportSolid, this, &MainWindow::exportSolid);
    connect(&session_, &Session::projectOpened, editor_, &CageEditor::stop);
}

std::shared_ptr<const stages::AnalysisResult> MainWindow::shapesShown(const report::SceneOptions& o) const {
    if (o.show != report::Show::analysis || !session_.hasProject()) return nullptr;
    const Project& p = session_.project();
    return p.check(session_.recipe()) ? p.analysis(session_.recipe(), o.analysis) : nullptr;
}

void MainWindow::showNextFrame() {
    const auto check = session_.lastKnown().check;
    report::SceneOptions o = sceneOptions();
    const bool ofCase =
        o.show == report::Show::check && o.loadCase >= 0 && check && o.loadCase < static_cast<int>(check->cases.size());
    const auto analysis = shapesShown(o);
    if (!session_.hasProject() || !(ofCase || analysis)) {
        bar_->stopAnimation();
        return;
    }
    // sixteen scenes are made once and shown again and again; a change of options starts anew
    if (swing_.empty()) {
        const auto all = std::make_shared<const Project>(session_.project());
        for (int k = 0; k < swingFrames; ++k) {
            o.phase = std::sin(2 * M_PI * k / swingFrames);
            swing_.push_back([all, o, surface = session_.lastKnown().surface, check, analysis,
                              made = std::make_shared<std::shared_ptr<const render::Scene>>()] {
                if (*made) return *made;  // on the drawing thread, one after the other
                report::SceneInputs inputs{surface.get(), check.get(), nullptr, nullptr, nullptr};
                inputs.analysis = analysis.get();
                return *made = report::makeScene(*all, all->current().recipe, o, inputs);
            });
        }
    }
    view_->setScene(swing_[static_cast<std::size_t>(frame_)], false);
    frame_ = (frame_ + 1) % swingFrames;
}

void MainWindow::updateReadings() {
    const report::SceneOptions o = bar_->options();
    drawer_->setReadings(view_->pinnedPlaces(), o.quantity, o.unit, o.frame);
}

void MainWindow::savePicture(const QString& path, int width, int height, bool transparent) {
    const QImage image = transparent ? view_->transparentPicture(width, height) : view_->picture(width, height);
    if (image.isNull() || !image.save(path, "PNG")) showError("The picture cannot be written: " + path);
}

void MainWindow::saveAnimation(const QString& path, int width, int height) {
    const auto check = session_.lastKnown().check;
    report::SceneOptions o = sceneOptions();
    const auto analysis = shapesShown(o);
    if (!check || (o.loadCase < 0 && !analysis)) {
        showError("Choose results of one load case first: the worst of all cases has no one deformed shape.");
        return;
    }
    if (o.deformation == 0) o.deformation = report::automaticDeformation(*check, o.loadCase);
    render::Camera camera = view_->camera();
    camera.height *=
        std::max(1.0, (static_cast<double>(view_->width()) / view_->height()) / (static_cast<double>(width) / height));
    session_.work(
        "Writing the animation",
        [all = std::make_shared<const Project>(session_.project()), surface = session_.lastKnown().surface, check,
         analysis, o, camera, width, height, path](Progress& progress) mutable {
            render::Renderer renderer;
            std::vector<QImage> frames;
            for (int k = 0; k < swingFrames; ++k) {
                progress.step("Drawing the animation", static_cast<double>(k) / swingFrames);
                o.phase = std::sin(2 * M_PI * k / swingFrames);
                report::SceneInputs inputs{surface.get(), check.get(), nullptr, nullptr, nullptr};
                inputs.analysis = analysis.get();
                const auto scene = report::makeScene(*all, all->current().recipe, o, inputs);
                frames.push_back(render::picture(renderer, scene, camera, width, height));
            }
            progress.step("Encoding the animation");
            report::writeAnimation(path.toStdString(), frames, 60);
        },
        [this, path] { session_.addLog("Animation written: " + path); });
}

void MainWindow::askForPicture() {
    QDialog dialog(this);
    dialog.setObjectName("pictureDialog");
    dialog.setWindowTitle("Save picture or animation");
    auto* form = new QFormLayout(&dialog);
    auto* kind = new QComboBox;
    kind->setObjectName("pictureKind");
    kind->addItems({"picture (PNG)", "picture without ground (PNG)", "animation of the deformed shape (WebP)"});
    auto* width = new QSpinBox;
    auto* height = new QSpinBox;
    width->setRange(100, 8000);
    height->setRange(100, 8000);
    width->setValue(1920);
    height->setValue(1200);
    width->setSuffix(" px");
    height->setSuffix(" px");
    form->addRow("Kind", kind);
    form->addRow("Width", width);
    form->addRow("Height", height);
    connect(kind, &QComboBox::currentIndexChanged, &dialog, [=](int k) {
        width->setValue(k == 2 ? 960 : 1920);
        height->setValue(k == 2 ? 600 : 1200);
    });
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Save | QDialogButtonBox::Cancel);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    form->addRow(buttons);
    if (dialog.exec() != QDialog::Accepted) return;
    const bool moving = kind->currentIndex() == 2;
    const QString path = moving ? QFileDialog::getSaveFileName(this, "Save animation", "view.webp", "WebP (*.webp)")
                                : QFileDialog::getSaveFileName(this, "Save picture", "view.png", "PNG (*.png)");
    if (path.isEmpty()) return;
    if (moving)
        saveAnimation(path, width->value(), height->value());
    else
        savePicture(path, width->value(), height->value(), kind->currentIndex() == 1);
}

void MainWindow::keepView(const QString& name) {
    if (!session_.hasProject() || name.trimmed().isEmpty()) return;
    const render::Camera c = view_->camera();
    const NamedView kept{name.trimmed().toStdString(), c.focus, c.direction, c.up, c.height};
    session_.edit("Keep view", [kept](Project& p) {
        std::erase_if(p.views, [&](const NamedView& v) { return v.name == kept.name; });
        p.views.push_back(kept);
    });
}

void MainWindow::fillViewsMenu(QMenu* menu) {
    menu->clear();
    auto* keep = menu->addAction("Keep this view…");
    keep->setObjectName("actionKeepView");
    keep->setEnabled(session_.hasProject());
    connect(keep, &QAction::triggered, this, [this] {
        bool ok = false;
        const QString name = QInputDialog::getText(this, "Keep view", "Name of the view", QLineEdit::Normal,
                                                   QString("View %1").arg(session_.project().views.size() + 1), &ok);
        if (ok) keepView(name);
    });
    if (!session_.hasProject() || session_.project().views.empty()) return;
    menu->addSeparator();
    for (const NamedView& v : session_.project().views) {
        auto* a = menu->addAction(QString::fromStdString(v.name));
        connect(a, &QAction::triggered, this, [this, v] {
            render::Camera c;
            c.focus = v.focus;
            c.direction = v.direction;
            c.up = v.up;
            c.height = v.height;
            view_->setCamera(c);
        });
    }
}

}  // namespace escultura::app
