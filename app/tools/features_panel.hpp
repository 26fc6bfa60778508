/// @file tools/features_panel.hpp
/// The list of exact features: add, edit, reorder, switch off; what became of each.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QPushButton>
#include <QTableWidget>

#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class FeaturesPanel : public QWidget {
    Q_OBJECT
  public:
    explicit FeaturesPanel(Session& session, QWidget* parent = nullptr);
    void refresh();
    /// All features with their figures. Stands in the drawer.
    QTableWidget* table() { return table_; }
    QString selected() const;
    /// Adds a feature of a kind with usual numbers, at the middle of the part or the given place.
    /// @param path  of an imported body
    void add(solid::Feature::Kind kind, std::optional<Vec3> at = {}, const QString& path = {});

  signals:
    void selectionChanged(const QString& name);
    void failed(const QString& message);

  private:
    FlowLayout* makeButtons();
    std::vector<solid::Feature> list() const;
    void change(const QString& text, const std::function<void(std::vector<solid::Feature>&)>& edit);
    void fillForm();
    void accept();
    void move(int by);

    Session& session_;
    QTableWidget *table_, *form_;
    QLabel* outcome_;
    QPushButton *up_, *down_, *remove_;
    bool filling_ = false;
};

}  // namespace escultura::app
