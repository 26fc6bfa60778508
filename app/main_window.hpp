/// @file main_window.hpp
/// The window: shelf, dossier, view with its bar, drawer, requirement strip.

#pragma once
#include <QMainWindow>
#include <functional>
#include <mutex>
#include <optional>

#include "dossier/dossier.hpp"
#include "drawer/drawer.hpp"
#include "field_painter.hpp"
#include "help/help_window.hpp"
#include "requirement_strip.hpp"
#include "session.hpp"
#include "shelf/shelf.hpp"
#include "start/start_page.hpp"
#include "start/tour.hpp"
#include "view/cage_editor.hpp"
#include "view/panes.hpp"
#include "view/view.hpp"
#include "view/view_bar.hpp"
#include "work_bar.hpp"

class QSplitter;
class QStackedWidget;

namespace escultura::app {

/// The source's folder while developing, the installed one otherwise.
QString demoFolder();

class MainWindow : public QMainWindow {
    Q_OBJECT
  public:
    MainWindow();
    /// Opens a part file or a project, by its ending.
    void open(const QString& path);
    /// Runs surface, check and findings once the next part is open.
    void runWhenOpened() { runWhenOpened_ = true; }
    /// Asks for what the file does not say, then adds its field to the part (or makes a part of it).
    void addField(const QString& path);
    /// Reads a body and uses it as "original", "design space" or "keep-out".
    void useBody(const QString& path, const QString& as);
    /// Writes the surface in the format of the path's ending.
    void exportTo(const QString& path);
    /// Writes the rebuilt solid (STEP or triangles by the ending), reads it back and compares.
    void exportSolidTo(const QString& path);
    CageEditor& cageEditor() { return *editor_; }
    Drawer& drawer() { return *drawer_; }
    ToolPane& tools() { return *tools_; }
    /// Opens the card of a tool and its sheet.
    void openTool(Tool tool);
    /// Brings a table to the front, in the card that it belongs to.
    void openTable(Table table);
    /// Light or dark, and the size of words in per cent of the usual one.
    void setLooks(bool dark, int words);
    /// Takes the drawer out into a window of its own, or back.
    void detachDrawer(bool on);
    /// Writes the view as it is. @param transparent  see-through where nothing is drawn
    void savePicture(const QString& path, int width, int height, bool transparent);
    /// Writes the deformed shape of the chosen case as an animation.
    void saveAnimation(const QString& path, int width, int height);
    /// Keeps the camera under a name, with the project.
    void keepView(const QString& name);
    /// Writes the release folder on the worker thread.
    /// @param key  file of the secret key to sign with; empty: none
    void releaseTo(const QString& folder, const std::optional<judge::SignOff>& signOff = std::nullopt,
                   const QString& key = {});
    /// Makes everything in a release folder again and tells what differs.
    /// @param openKey  file of the signer's public key; empty: the folder's own
    void checkRelease(const QString& folder, const QString& openKey = {});
    /// Ways to begin, recent files, work that an earlier process could not save; in place of the part.
    void showStart();
    /// Puts the open file among the recent ones.
    /// @param shown  with a picture of what the view shows; else it keeps the one it had
    void rememberOpen(bool shown);
    void rememberWithPicture(const QString& path);
    /// Asks for name and unit, then begins a part whose design space the body is.
    void beginWithBody(const QString& path);
    Session& session() { return session_; }
    View& view() { return *view_; }
    Panes& panes() { return *panes_; }
    /// Results that a picture is made from; those of the variant as it was, where newer ones are missing.
    struct ShownResults {
        LastKnown known;
        std::shared_ptr<const stages::ProcessResult> process;
        std::shared_ptr<const surface::TriMesh> original;
        std::shared_ptr<const stages::SurfaceResult> baselineSurface;
        std::shared_ptr<const stages::AnalysisResult> analysis;
        std::shared_ptr<const std::vector<double>> difference;
        bool toBeMade = false;  ///< the field is
    };
    Dossier& dossier() { return *dossier_; }
    ViewBar& viewBar() { return *bar_; }

  protected:
    void closeEvent(QCloseEvent* e) override;
    void showEvent(QShowEvent* e) override;
    void resizeEvent(QResizeEvent* e) override;
    void dragEnterEvent(QDragEnterEvent* e) override;
    void dropEvent(QDropEvent* e) override;

  private:
    QAction* addEntry(QMenu* menu, const QString& text, const QKeySequence& key, const std::function<void()>& slot,
                      const char* name, const QString& icon = {});
    /// Does nothing without a project or while something runs.
    std::function<void()> withProject(const std::function<void()>& slot);
    /// Does nothing without a project.
    std::function<void()> whenOpen(const std::function<void()>& slot);
    void makeFileMenu();
    void makeEditMenu();
    void makeViewMenu();
    void makePartMenu();
    void makeVariantMenu();
    void makeHelpMenu();
    /// Dark or light, and how large words are.
    void makeLooks(QMenu* menu);
    /// A variant beside the open one, as it is drawn.
    struct ShownCompanion {
        std::int64_t variant = 0;
        std::shared_ptr<const void> check, surface;
        double threshold = 0;
        bool operator==(const ShownCompanion&) const = default;
    };
    /// Everything that a picture follows from: equal ones are not drawn again.
    struct Shown {
        report::SceneOptions options;
        std::vector<std::shared_ptr<const void>> results;
        QString sampled;
        double threshold = 0;  ///< where it shows
        bool largestPieceOnly = true;
        double smallestIsland = 0;
        std::vector<std::string> texts;
        std::vector<ShownCompanion> companions;
        bool operator==(const Shown&) const = default;
    };
    ShownResults shownResults(const report::SceneOptions& options);
    void giveWay(ShownResults& results, report::SceneOptions& options);
    void makeOriginal(const ShownResults& results, const report::SceneOptions& options);
    bool isStale(const ShownResults& results, const report::SceneOptions& options) const;
    Shown shownOf(const ShownResults& results, const report::SceneOptions& options) const;
    void draw(const ShownResults& results, const report::SceneOptions& options, bool stale, bool refit);
    std::vector<ShownCompanion> shownCompanions() const;

    void layOut();
    void connectStart();
    void connectSession();
    void connectView();
    void connectDossier();
    void connectPicking();
    void opened();
    void makeMenus();
    void connectResults();
    /// The analysis whose shapes are shown; null: none is.
    std::shared_ptr<const stages::AnalysisResult> shapesShown(const report::SceneOptions& options) const;
    void showNextFrame();
    void updateReadings();
    void askForPicture();
    void fillViewsMenu(QMenu* menu);
    /// What the view bar asks for, with what the window adds.
    report::SceneOptions sceneOptions();
    void makeFinder();
    void openHelp(const QString& page);
    /// Opens the smallest demo and shows where things are.
    void startTour();
    void beginTour();
    /// Asks when there is unsaved work. @return whether what is open may be closed
    bool mayLeave();
    void refresh();
    void showScene(bool refit = false);
    void showError(const QString& message);
    void newVariant(std::size_t from);
    void openVariant(std::int64_t id);
    void variantMenu(std::size_t variant, const QPoint& where);
    bool save(bool ask);
    void exportSurface();
    void exportSolid();
    void connectRebuild();
    /// Where the section is: where it was dragged to, else through the middle of the part.
    void placeSection(render::Scene::Section& section);
    void addSectionHandles(const render::Scene::Section& section, std::vector<View::Handle>& handles) const;
    /// @return whether the handle is one of the section's
    bool moveSection(int handle, const Vec3& place);
    void resetSection() {
        sectionPoint_.reset();
        sectionDepth_.reset();
        sectionBox_.reset();
    }
    void connectTools();
    /// Shows where a label comes from.
    void followLabel(const render::Label& label);
    /// Shows the drawer as the open card has it, and leaves the view its share of the height while a tool is open.
    void arrangeDrawer();
    void askForField();
    void askForBody();
    void askToOpen();
    void importBody(const QString& as);
    void showProcess();
    void setPicking(bool on);
    void writeRelease(const judge::SignOff& signOff, const QString& key);
    void askForRelease();
    void connectComparison();
    void putBeside(std::size_t variant);
    /// One range of colours for all panes.
    using MakeScene = std::function<std::shared_ptr<const render::Scene>(const report::SceneOptions&)>;
    /// The range of colours that panes beside each other have in common; found by the first that asks for it.
    class SharedRange {
      public:
        report::SceneOptions options;
        std::vector<MakeScene> scenes;  ///< none: each has its own range
        std::optional<double> low() {
            find();
            return low_;
        }
        std::optional<double> high() {
            find();
            return high_;
        }

      private:
        void find();
        std::once_flag found_;
        std::optional<double> low_, high_;
    };
    std::shared_ptr<SharedRange> sharedRange(const report::SceneOptions& options, MakeScene main) const;
    MakeScene companionScene(std::size_t pane) const;
    /// Scenes of the variants beside the open one, with one legend.
    void showCompanions(const report::SceneOptions& options, const std::shared_ptr<SharedRange>& range);
    /// The shown quantity of the baseline on the open variant's boundary; null while it is worked out.
    std::shared_ptr<const std::vector<double>> differenceFor(const report::SceneOptions& options);
    void selectFinding(const QString& id);
    void cardOpened(project::Stage stage);

    Session session_;
    QStackedWidget* pages_;
    StartPage* start_;
    Shelf* shelf_;
    Dossier* dossier_;
    View* view_;
    Panes* panes_;
    ViewBar* bar_;
    ToolPane* tools_;
    Drawer* drawer_;
    QSplitter* split_;
    project::Stage card_ = project::Stage::duty;
    std::array<bool, project::stageCount> drawerOpen_{};  ///< of each card
    bool detached_ = false;
    CageEditor* editor_;
    RequirementStrip* strip_;
    FieldPainter* painter_;
    HelpWindow* help_ = nullptr;
    Tour* tour_ = nullptr;
    bool tourWhenOpened_ = false;
    WorkBar* work_;
    QLabel *error_, *title_;
    QString selectedFinding_;
    std::optional<double> low_, high_;
    std::string originalFailed_;
    std::optional<Shown> shown_;
    QString selectedInterface_, selectedFeature_;
    std::optional<std::pair<Vec3, std::string>> mark_;
    std::optional<Vec3> sectionPoint_, movedTo_;
    std::optional<double> sectionDepth_;
    std::optional<Box3> sectionBox_;
    /// What is shown while faces are picked; sets the body that they are picked on.
    report::SceneOptions forPicking(report::SceneOptions options);
    bool picking_ = false, isolate_ = false;
    std::shared_ptr<const surface::TriMesh> pickBody_{};
    double pickRoughness_ = 0;                     ///< of that body, mm
    std::pair<const void*, double> pickedFrom_{};  ///< field and threshold that it was made from
    QString sampledKey_;                           ///< what sampled_ belongs to
    std::shared_ptr<const std::vector<double>> sampled_;
    std::vector<Drawing::Make> swing_;
    QTimer swingClock_;
    int frame_ = 0, poorElement_ = -1;
    bool runWhenOpened_ = false, openCheckAfterRun_ = false, refit_ = false;
};

}  // namespace escultura::app
