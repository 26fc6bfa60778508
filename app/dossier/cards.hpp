/// @file dossier/cards.hpp
/// The seven cards.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QTableWidget>

#include "dossier/card.hpp"
#include "dossier/card_parts.hpp"
#include "dossier/threshold_control.hpp"
#include "widgets.hpp"

namespace escultura::app {

class DutyCard : public Card {
    Q_OBJECT
  public:
    explicit DutyCard(Session& session);
  signals:
    void loadCaseChosen(int loadCase);

  protected:
    QString summary() const override;
    void refreshBody() override;

  private:
    QLabel *material_, *description_;
    QTableWidget *interfaces_, *cases_;
};

class FieldCard : public Card {
    Q_OBJECT
  public:
    explicit FieldCard(Session& session);
  signals:
    void compareAsked(int variant);
    void addFieldAsked();

  protected:
    QString summary() const override;
    void refreshBody() override;

  private:
    void chooseField(int index);
    ThresholdControl* control_;
    QuantityEdit *threshold_, *mass_, *share_, *island_;
    QCheckBox* largest_;
    QComboBox *field_, *compare_;
    QLineEdit* weights_;
    QWidget *weightsRow_, *compareRow_, *islandRow_;
    QLabel *figures_, *interfaces_, *comparison_, *error_;
    QPushButton *build_, *addField_;
};

class SurfaceCard : public Card {
    Q_OBJECT
  public:
    explicit SurfaceCard(Session& session);
  signals:
    /// A report::Show.
    void showAsked(int show);
    void exportSurface();
    void placeAsked(const escultura::Vec3& place, const QString& words);

  protected:
    QString summary() const override;
    void refreshBody() override;

  private:
    void follow(const QString& key);
    void edit(const QString& text, const std::function<void(project::Recipe&)>& change);
    QuantityEdit *smoothing_, *spacing_, *budget_, *parting_, *draftAngle_, *overhang_;
    QComboBox* triangles_;
    DirectionEdit *pull_, *up_;
    QCheckBox* addDraft_;
    QWidget* budgetRow_;
    QLabel *figures_, *bores_, *findings_, *casting_, *printing_, *error_;
    QPushButton *build_, *deviation_, *thickness_, *draft_, *overhangs_, *best_, *export_;
};

class RebuildCard : public Card {
    Q_OBJECT
  public:
    explicit RebuildCard(Session& session);

  protected:
    QString summary() const override;
};

class CheckCard : public Card {
    Q_OBJECT
  public:
    explicit CheckCard(Session& session);
  signals:
    void loadCaseChosen(int loadCase);

  protected:
    QString summary() const override;
    void refreshBody() override;

  private:
    QuantityEdit* size_;
    QLabel *expected_, *error_, *last_;
    QTableWidget* cases_;
    QPushButton* run_;
};

class FindingsCard : public Card {
    Q_OBJECT
  public:
    explicit FindingsCard(Session& session);
  signals:
    void findingChosen(const QString& id);

  protected:
    QString summary() const override;
    QString state(QColor& colour) const override;
    void refreshBody() override;

  private:
    void sign();
    QTableWidget* list_;
    QLabel *detail_, *error_;
    QuantityEdit* share_;
    QComboBox* decision_;
    QLineEdit *why_, *who_;
    QPushButton* find_;
};

class ReleaseCard : public Card {
    Q_OBJECT
  public:
    explicit ReleaseCard(Session& session);
  signals:
    void writeRelease();

  protected:
    QString summary() const override;
    QString state(QColor& colour) const override;
    void refreshBody() override;

  private:
    QTableWidget* requirements_;
    QLabel* blockers_;
    QPushButton* write_;
};

}  // namespace escultura::app
