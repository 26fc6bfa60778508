// The window's dealings with files: projects, fields, bodies, surfaces, releases.

#include <QCloseEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QMessageBox>
#include <QMimeData>
#include <cmath>
#include <filesystem>

#include "base/signature.hpp"
#include "dialogs/body_dialog.hpp"
#include "dialogs/field_dialog.hpp"
#include "duty/part_edit.hpp"
#include "duty/strict_json.hpp"
#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "main_window.hpp"
#include "project/run.hpp"
#include "report/report.hpp"
#include "start/recent.hpp"
#include "store/storage.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace stages;
using namespace project;
using namespace store;
using namespace judge;
using report::Show;

namespace {
const char* const fieldFiles = "Density fields (*.vti *.vtu *.vtk *.npy *.csv *.tsv *.txt);;All files (*)";
const char* const bodyFiles = "Bodies (*.stl *.obj *.ply *.3mf *.step *.stp);;All files (*)";
}  // namespace

bool MainWindow::save(bool ask) {
    QString path = session_.projectPath();
    if (ask || path.isEmpty()) {
        path = QFileDialog::getSaveFileName(this, "Save project",
                                            QString::fromStdString(session_.project().part.name) + ".escultura",
                                            "Escultura projects (*.escultura)");
        if (path.isEmpty()) return false;
        if (!path.endsWith(".escultura")) path += ".escultura";
    }
    session_.saveProject(path);
    rememberWithPicture(path);
    return true;
}

void MainWindow::exportSurface() {
    const auto surface = session_.project().surface(session_.recipe());
    if (!surface) {
        showError("The surface is out of date or not built yet: build it before exporting.");
        return;
    }
    const QString path = QFileDialog::getSaveFileName(
        this, "Export surface", "surface.stl",
        "STL (*.stl);;3MF with units and metadata (*.3mf);;OBJ with groups (*.obj);;PLY in double precision (*.ply)");
    if (!path.isEmpty()) exportTo(path);
}

void MainWindow::exportTo(const QString& path) {
    const auto surface = session_.project().surface(session_.recipe());
    if (!surface) return;
    exchange::BodyText text{session_.project().part.name, {"free"}};
    for (const NamedFace& f : surface->faces) {
        text.owners.resize(std::max<std::size_t>(text.owners.size(), static_cast<std::size_t>(f.surface) + 1));
        text.owners[static_cast<std::size_t>(f.surface)] = f.interface + " " + f.face;
    }
    session_.work(
        "Exporting", [surface, path, text](Progress&) { exchange::writeBody(path.toStdString(), surface->mesh, text); },
        [this, path] {
            session_.addLog("Exported " + path);
            emit session_.changed();
        });
}

void MainWindow::exportSolid() {
    if (!session_.project().rebuild(session_.recipe())) {
        showError("The solid is out of date or not rebuilt yet: rebuild it before writing it.");
        return;
    }
    const QString path = QFileDialog::getSaveFileName(this, "Write solid", "solid.step",
                                                      "STEP AP214 (*.step);;IGES, no names (*.iges);;STL (*.stl);;3MF "
                                                      "with units and metadata (*.3mf);;OBJ with groups (*.obj)");
    if (!path.isEmpty()) exportSolidTo(path);
}

void MainWindow::exportSolidTo(const QString& path) {
    const auto rebuilt = session_.project().rebuild(session_.recipe());
    if (!rebuilt) return;
    const duty::Part part = session_.project().part;
    auto differ = std::make_shared<std::vector<std::string>>();
    session_.work(
        "Writing the solid",
        [rebuilt, part, path, differ](Progress& progress) {
            progress.step("Writing and reading back");
            const std::string to = path.toStdString();
            auto is = [&](std::initializer_list<const char*> endings) {
                return std::any_of(endings.begin(), endings.end(), [&](const char* e) { return to.ends_with(e); });
            };
            *differ = is({".step", ".stp"})   ? writeCheckedStep(to, part, *rebuilt)
                      : is({".iges", ".igs"}) ? writeCheckedIges(to, part, *rebuilt)
                                              : writeCheckedBody(to, part, *rebuilt);
        },
        [this, path, differ] {
            for (const auto& d : *differ) showError("Read back from " + path + ": " + QString::fromStdString(d));
            session_.addLog(
                (differ->empty() ? "Written, read back and compared: " : "Written, but different when read back: ") +
                path);
            emit session_.changed();
        });
}

void MainWindow::addField(const QString& path) {
    if (session_.isBusy()) return;
    auto file = std::make_shared<exchange::FieldFile>();
    session_.work(
        "Looking into the file", [file, path](Progress&) { *file = exchange::inspectField(path.toStdString()); },
        [this, file, path] {
            auto* dialog = new FieldDialog(path, *file, this);
            dialog->setAttribute(Qt::WA_DeleteOnClose);
            connect(dialog, &QDialog::accepted, this, [this, dialog, path] {
                const NamedField field{dialog->name().toStdString(), dialog->source()};
                try {
                    if (session_.hasProject()) {
                        session_.editPart(
                            "Add field", [&](const std::string&) { return withField(session_.project().part, field); });
                        const int index = static_cast<int>(session_.project().part.fields.size()) - 1;
                        session_.edit("Choose field", [index](Project& p) {
                            p.variants[p.open].recipe.field = {FieldChoice::How::one, index, {}};
                        });
                    } else {
                        // a path that no file can have: the part lives in memory until it is saved as a project
                        const QString part =
                            QFileInfo(path).absolutePath() + "/" + dialog->name() + " (not saved yet)/part.json";
                        session_.openNewPart(newPartText(field.name, field.source, part.toStdString()), part);
                    }
                } catch (const InputError& e) {
                    showError(e.what());
                }
            });
            dialog->open();
        });
}

void MainWindow::askForField() {
    const QString path = QFileDialog::getOpenFileName(this, "Add a density field", {}, fieldFiles);
    if (!path.isEmpty()) addField(path);
}

void MainWindow::askForBody() {
    const QString path = QFileDialog::getOpenFileName(this, "A body to begin with", {}, bodyFiles);
    if (!path.isEmpty() && mayLeave()) beginWithBody(path);
}

void MainWindow::beginWithBody(const QString& path) {
    if (session_.isBusy()) return;
    auto read = std::make_shared<std::vector<BodyDialog::Body>>();
    session_.work(
        "Reading the body",
        [read, path](Progress&) {
            for (const exchange::NamedBody& body : exchange::readBodies(path.toStdString())) {
                BodyDialog::Body b{body.name, surface::measure(body.mesh), {}};
                for (const Vec3& p : body.mesh.position) b.box.include(p);
                read->push_back(std::move(b));
            }
        },
        [this, read, path] {
            auto* dialog = new BodyDialog(path, *read, exchange::statesUnit(path.toStdString()), this);
            dialog->setAttribute(Qt::WA_DeleteOnClose);
            connect(dialog, &QDialog::accepted, this, [this, dialog, path] {
                using Role = BodyDialog::Role;
                const std::string file = path.toStdString(), unit = dialog->unit();
                const BodySource body{file, unit, 0, dialog->bodiesOf(Role::part)};
                std::vector<std::pair<std::string, BodySource>> neighbours;
                for (const std::string& name : dialog->bodiesOf(Role::neighbour))
                    neighbours.emplace_back(name, BodySource{file, unit, dialog->clearance(), {name}});
                // a path that no file can have: the part lives in memory until it is saved as a project
                const QString part =
                    QFileInfo(path).absolutePath() + "/" + dialog->name() + " (not saved yet)/part.json";
                session_.openNewPart(newPartText(dialog->name().toStdString(), body, part.toStdString(), neighbours),
                                     part);
            });
            dialog->open();
        });
}

void MainWindow::askToOpen() {
    const QString path = QFileDialog::getOpenFileName(this, "Open a part or a project", {},
                                                      "Parts and projects (*.json *.escultura);;All files (*)");
    if (!path.isEmpty()) open(path);
}

void MainWindow::importBody(const QString& as) {
    const QString path = QFileDialog::getOpenFileName(this, "Use a body as " + as, {}, bodyFiles);
    if (!path.isEmpty()) useBody(path, as);
}

void MainWindow::useBody(const QString& path, const QString& as) {
    if (session_.isBusy() || !session_.hasProject()) return;
    // reading it first shows what is wrong with it before the part names it
    session_.work(
        "Reading the body", [path](Progress&) { exchange::readBody(path.toStdString()); },
        [this, path, as] {
            const BodySource body{path.toStdString(), "mm", 0, {}};
            try {
                session_.editPart("Use a body as " + as, [&](const std::string&) {
                    const Part& part = session_.project().part;
                    return as == "original" ? withOriginal(part, &body)
                           : as == "design space"
                               ? withDesignBody(part, &body)
                               : withKeepOutBody(part, QFileInfo(path).completeBaseName().toStdString(), body);
                });
                if (as == "original") {
                    bar_->setShow(Show::original);
                    bar_->refresh();
                    showScene(true);
                }
            } catch (const InputError& e) {
                showError(e.what());
            }
        });
}

void MainWindow::writeRelease(const SignOff& signOff, const QString& key) {
    QString folder = QFileDialog::getExistingDirectory(this, "Folder for the release");
    if (folder.isEmpty()) return;
    // a release has a folder of its own, and a new one each time
    if (!QDir(folder).isEmpty()) {
        QString name = QString::fromStdString(session_.project().part.name);
        name.replace(QRegularExpression(R"([^\w .-]+)", QRegularExpression::UseUnicodePropertiesOption), "-");
        int number = 1;
        for (const auto& r : session_.project().releases) number = std::max(number, r.number + 1);
        auto path = [&] { return folder + "/" + name + " release " + QString::number(number); };
        while (QFileInfo::exists(path())) ++number;
        folder = path();
    }
    releaseTo(folder, signOff, key);
}

void MainWindow::releaseTo(const QString& folder, const std::optional<SignOff>& signOff, const QString& key) {
    auto copy = std::make_shared<Project>(session_.project());
    std::string secretKey;
    if (signOff) try {
            if (!key.isEmpty()) {
                secretKey = readWholeText(key.toStdString(), "The key cannot be opened.");
                openKeyOf(secretKey);  // refuses what is no key
            }
            addRelease(*copy, copy->current(), *signOff);
        } catch (const std::exception& e) {
            showError(e.what());
            return;
        }
    const auto timings = session_.timings();
    const bool signed_ = signOff.has_value();
    session_.work(
        "Release",
        [copy, folder, timings, signed_, secretKey](Progress& progress) {
            render::Renderer renderer;  // a drawing context of this thread
            report::writeRelease(*copy, copy->current(), timings, renderer, folder.toStdString(), progress,
                                 signed_ ? &copy->releases.back() : nullptr, false, secretKey);
        },
        [this, folder, copy, signed_] {
            session_.addLog("Release written to " + folder);
            // only what has been written is a release
            if (signed_)
                session_.edit(QString("Release %1 signed by %2")
                                  .arg(copy->releases.back().number)
                                  .arg(QString::fromStdString(copy->releases.back().name)),
                              [&](Project& p) { p.releases.push_back(copy->releases.back()); });
            emit session_.changed();
        });
}

void MainWindow::askForRelease() {
    const QString folder = QFileDialog::getExistingDirectory(this, "Release folder to check");
    if (folder.isEmpty()) return;
    QString key;
    if (QFileInfo::exists(folder + "/manifest.sig"))
        key = QFileDialog::getOpenFileName(this, "The signer's public key (Cancel: the one in the folder)", {},
                                           "Public keys (*.pub);;All files (*)");
    checkRelease(folder, key);
}

void MainWindow::checkRelease(const QString& folder, const QString& openKey) {
    auto items = std::make_shared<std::vector<report::VerifiedItem>>();
    session_.work(
        "Checking the release",
        [items, folder, openKey](Progress& progress) {
            const std::string key =
                openKey.isEmpty() ? std::string() : readWholeText(openKey.toStdString(), "The key cannot be opened.");
            *items = report::verifyRelease(folder.toStdString(), true, progress, key);
        },
        [this, items, folder] {
            QString differences, signature;
            int differ = 0;
            for (const auto& i : *items) {
                if (i.what == "signature") signature = QString::fromStdString(i.found + ", " + i.expected);
                if (i.holds) continue;
                if (++differ <= 12)
                    differences += QString("<li><b>%1</b><br/>stated %2<br/>found %3</li>")
                                       .arg(QString::fromStdString(i.what).toHtmlEscaped(),
                                            QString::fromStdString(i.expected).toHtmlEscaped(),
                                            QString::fromStdString(i.found).toHtmlEscaped());
            }
            if (differ > 12) differences += QString("<li>and %1 more</li>").arg(differ - 12);
            auto* box = new QMessageBox(differ ? QMessageBox::Warning : QMessageBox::Information, "Release checked", {},
                                        QMessageBox::Ok, this);
            box->setObjectName("releaseChecked");
            box->setAttribute(Qt::WA_DeleteOnClose);
            box->setTextFormat(Qt::RichText);
            box->setText(differ
                             ? QString("%1 of %2 statements differ from what was made again.<ul>%3</ul>")
                                   .arg(differ)
                                   .arg(items->size())
                                   .arg(differences)
                             : QString("All %1 statements hold: files, figures, bodies, results and report were made "
                                       "again from the folder's inputs.")
                                   .arg(items->size()));
            box->setInformativeText("Signature: " + signature + ".");
            session_.addLog(QString("Release in %1 checked: %2")
                                .arg(folder, differ ? QString("%1 differences").arg(differ) : "holds"));
            box->open();
        });
}

void MainWindow::showStart() {
    start_->refresh(Session::recoveryFolder(),
                    session_.hasProject() ? QString::fromStdString(session_.project().part.name) : QString());
    pages_->setCurrentIndex(0);
}

void MainWindow::rememberOpen(bool shown) {
    if (!session_.hasProject()) return;
    const std::string& part = session_.project().part.path;
    const QString path = !session_.projectPath().isEmpty() ? session_.projectPath() : QString::fromStdString(part);
    if (!QFileInfo(path).isFile()) return;  // in memory only
    const bool seen = shown && session_.lastKnown().surface != nullptr && isVisible();
    rememberRecent(path, QString::fromStdString(session_.project().part.name),
                   seen ? view_->thumbnail(232, 140, 1.02) : QImage());  // the last one before it goes
}

void MainWindow::rememberWithPicture(const QString& path) {
    const QString name = QString::fromStdString(session_.project().part.name);
    rememberRecent(path, name, QImage());
    if (session_.lastKnown().surface)
        view_->askForSmall({232, 140, 1.02, [path, name](const QImage& image) { rememberRecent(path, name, image); }});
}

void MainWindow::closeEvent(QCloseEvent* e) {
    if (session_.hasProject() && session_.isModified() && isVisible() && !property("neverAsk").toBool()) {
        const auto answer = QMessageBox::question(this, "Unsaved work", "Save the project before closing?",
                                                  QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
        if (answer == QMessageBox::Cancel || (answer == QMessageBox::Save && !save(false))) {
            e->ignore();
            return;
        }
        if (answer == QMessageBox::Save) {
            connect(&session_, &Session::changed, this, [this] {
                if (!session_.isModified()) close();
            });
            e->ignore();
            return;
        }
    }
    rememberOpen(true);
    session_.cancel();
    session_.forgetRecovery();
    e->accept();
}

void MainWindow::dragEnterEvent(QDragEnterEvent* e) {
    if (e->mimeData()->hasUrls()) e->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* e) {
    if (!e->mimeData()->urls().isEmpty()) open(e->mimeData()->urls().first().toLocalFile());
}

}  // namespace escultura::app
