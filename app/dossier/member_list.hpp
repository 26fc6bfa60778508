/// @file dossier/member_list.hpp
/// Thin members of the field, one a row: how thick, what became of them, and what is decided.

#pragma once
#include <QComboBox>
#include <QTableWidget>

#include "dossier/card.hpp"

namespace escultura::app {

class MemberList : public QWidget {
    Q_OBJECT
  public:
    explicit MemberList(QWidget* parent = nullptr);
    /// @param surface  null: nothing is known yet
    void show(const stages::SurfaceResult* surface, const duty::ThinMembers& chosen);

  signals:
    void placeAsked(const escultura::Vec3& place, const QString& words);
    void decided(const escultura::Vec3& place, escultura::duty::MemberFate fate);
    void othersDecided(escultura::duty::MemberFate fate);

  private:
    QLabel* words_;
    QComboBox* others_;
    QWidget* othersRow_;
    QTableWidget* table_;
    std::vector<stages::ThinMember> members_;
};

}  // namespace escultura::app
