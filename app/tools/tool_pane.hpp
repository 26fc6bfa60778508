/// @file tools/tool_pane.hpp
/// Tools of the open card at the view's left edge: a palette, and beside it a sheet with the numbers of the chosen one.

#pragma once
#include <QFrame>
#include <QScrollArea>
#include <QToolButton>

#include "frame.hpp"
#include "tools/cage_panel.hpp"
#include "tools/duty_panel.hpp"
#include "tools/features_panel.hpp"
#include "tools/interfaces_panel.hpp"

namespace escultura::app {

class ToolPane : public QFrame {
    Q_OBJECT
  public:
    explicit ToolPane(Session& session, QWidget* parent = nullptr);
    void refresh();
    /// Offers the tools of a card. A tool of another card closes.
    void showFor(project::Stage stage);
    /// Opens a tool's sheet, or closes it. Tools of another card than the shown one are left closed.
    void open(Tool tool);
    Tool current() const { return current_; }
    InterfacesPanel& interfaces() { return *interfaces_; }
    DutyPanel& duty() { return *duty_; }
    CagePanel& cage() { return *cage_; }
    FeaturesPanel& features() { return *features_; }

  signals:
    void toolChanged(escultura::app::Tool tool);

  protected:
    void keyPressEvent(QKeyEvent* e) override;

  private:
    struct Entry {
        Tool tool;
        project::Stage card;
        QWidget* sheet;
        QToolButton* button;
    };
    void add(Tool tool, project::Stage card, QWidget* panel, const QString& words, const QString& icon,
             const char* objectName, const QString& tip);
    Session& session_;
    InterfacesPanel* interfaces_;
    DutyPanel* duty_;
    CagePanel* cage_;
    FeaturesPanel* features_;
    QWidget *palette_, *sheet_;
    QLabel* title_;
    std::vector<Entry> entries_;
    project::Stage card_ = project::Stage::duty;
    Tool current_ = Tool::none;
};

}  // namespace escultura::app
