/// @file dossier/cards.hpp
/// The seven cards.

#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QSlider>
#include <QTableWidget>

#include "chart.hpp"
#include "dossier/analysis_rows.hpp"
#include "dossier/card.hpp"
#include "dossier/card_parts.hpp"
#include "dossier/member_list.hpp"
#include "dossier/threshold_control.hpp"
#include "frame.hpp"
#include "judge/proposals.hpp"
#include "judge/releases.hpp"
#include "widgets.hpp"

namespace escultura::app {

class DutyCard : public Card {
    Q_OBJECT
  public:
    explicit DutyCard(Session& session);
  signals:
    void loadCaseChosen(int loadCase);
    void toolAsked(escultura::app::Tool tool);

  protected:
    QString summary() const override;
    void refreshBody() override;

  private:
    void chooseMaterial(int index);
    void typeMaterial();
    /// The open variant's own numbers beside the part's.
    void refreshNumbers();
    /// Takes the part's instead of the own numbers that are selected.
    void dropNumbers();
    QLabel *figures_, *description_, *ready_, *error_;
    QComboBox* material_;
    QTableWidget *interfaces_, *cases_, *numbers_;
    QWidget* own_;
    QPushButton* drop_;
};

class MakingPanel;

class FieldCard : public Card {
    Q_OBJECT
  public:
    explicit FieldCard(Session& session);
  signals:
    void compareAsked(int variant);
    void addFieldAsked();

  protected:
    QString summary() const override;
    QString state(QColor& colour) const override;
    void refreshBody() override;

  private:
    void refreshChoices();
    void showFigures(const stages::FieldResult& field);
    void showComparison();
    void makeInputs();
    void layOut();
    void connectInputs();
    void chooseField(int index);
    MakingPanel* making_;
    ThresholdControl* control_;
    QuantityEdit *threshold_, *mass_, *share_, *island_;
    QCheckBox* largest_;
    QComboBox *field_, *compare_;
    QLineEdit* weights_;
    QWidget *weightsRow_, *compareRow_, *islandRow_, *thresholdRow_, *massRow_, *shareRow_;
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
    void showFigures(const stages::SurfaceResult& surface);
    void showMaking(const stages::SurfaceResult& surface, const stages::ProcessResult& process);
    void makeInputs();
    void makeMembers();
    void makeCasting();
    void makePrinting();
    void connectInputs();
    void follow(const QString& key);
    void edit(const QString& text, const std::function<void(duty::Recipe&)>& change);
    QuantityEdit *smoothing_, *spacing_, *budget_, *parting_, *draftAngle_, *overhang_;
    QCheckBox* keepMembers_;
    QuantityEdit *smallest_, *edgeRadius_, *edgeError_;
    QComboBox* edgeSide_;
    MemberList* members_;
    QComboBox* triangles_;
    DirectionEdit *pull_, *up_;
    QCheckBox* addDraft_;
    QWidget* budgetRow_;
    QLabel *figures_, *bores_, *findings_, *casting_, *printing_, *error_;
    QPushButton *build_, *deviation_, *thickness_, *curvature_, *draft_, *overhangs_, *best_, *export_;
};

class RebuildCard : public Card {
    Q_OBJECT
  public:
    explicit RebuildCard(Session& session);
  signals:
    void showAsked(int show);
    void toolAsked(escultura::app::Tool tool);
    void exportSolid();

  protected:
    QString summary() const override;
    void refreshBody() override;

  private:
    QString cageWords(const LastKnown& known, bool hasSurface) const;
    QString solidWords(const LastKnown& known) const;
    void makeInputs();
    void layOut();
    void connectInputs();  ///<
    QuantityEdit *tolerance_, *size_, *count_;
    QCheckBox* adapt_;
    QLabel *error_, *cage_, *solid_, *problems_;
    QPushButton *fit_, *edit_, *features_, *deviation_, *step_, *quick_, *rebuild_;
};

class CheckCard : public Card {
    Q_OBJECT
  public:
    explicit CheckCard(Session& session);
  signals:
    void loadCaseChosen(int loadCase);
    void showAsked(int show);
    void tableAsked(escultura::app::Table table);
    /// The first shape of a further analysis is to be shown.
    void shapeAsked(const QString& kind);

  protected:
    QString summary() const override;
    void refreshBody() override;

  private:
    void makeInputs();
    void makeResults();
    void layOut();
    void connectInputs();
    void connectResults();
    void refreshExpected();
    void refreshCases(const stages::CheckResult& check);
    void refreshCurves(const stages::CheckResult& check);
    QString restWords(const stages::CheckResult& check) const;
    void edit(const QString& text, const std::function<void(duty::CheckChoice&)>& change);
    void addLocalSize(duty::LocalSize size);
    void fillPlaces();
    QuantityEdit *size_, *localSize_, *tolerance_, *share_;
    QComboBox *checked_, *level_, *through_, *around_, *method_, *place_;
    QLabel *expected_, *error_, *last_, *local_, *quality_, *ready_, *expertFigures_;
    QWidget *shareRow_, *expert_;
    QPushButton *run_, *addLocal_, *mesh_, *expertFold_, *reactions_;
    Chart *residual_, *convergence_, *angles_;
    QTableWidget* cases_;
    AnalysisRows* analyses_;
};

class FindingsCard : public Card {
    Q_OBJECT
  public:
    explicit FindingsCard(Session& session);
    /// Selects a finding in the list.
    void choose(const QString& id);
    bool isolates() const { return isolate_->isChecked(); }

  signals:
    void findingChosen(const QString& id);
    void isolateChanged(bool on);

  protected:
    QString summary() const override;
    QString state(QColor& colour) const override;
    void refreshBody() override;

  private:
    QString words(const stages::Finding* finding);
    QString offers() const;
    void makeInputs();
    void layOut();
    void connectInputs();
    void sign();
    void previewShare(int percent);
    void applyShare(double share);
    void showDetail();
    void followProposal(const QString& key);
    const stages::Finding* chosen() const;
    std::vector<stages::Finding> findings_;
    std::vector<judge::Proposal> offered_;
    QTableWidget* list_;
    QString told_;  ///< finding that was last told to be chosen
    QLabel *detail_, *error_, *level_, *proposals_;
    QuantityEdit *share_, *amount_;
    QSlider* slider_;
    QCheckBox* isolate_;
    Chart* chart_;
    QComboBox* decision_;
    QLineEdit *why_, *who_;
    QPushButton *find_, *test_, *testAll_, *sign_;
    QWidget *amountRow_, *signing_;
};

class ReleaseCard : public Card {
    Q_OBJECT
  public:
    explicit ReleaseCard(Session& session);
  signals:
    /// @param key  file of the secret key to sign with; empty: none
    void writeRelease(const escultura::judge::SignOff& signOff, const QString& key);
    void stageAsked(escultura::project::Stage stage);
    void findingAsked(const QString& id);
    void tableAsked(escultura::app::Table table);

  protected:
    QString summary() const override;
    QString state(QColor& colour) const override;
    void refreshBody() override;

  private:
    void keepKey();  ///< where it is, for the next start
    QTableWidget* requirements_;
    QLabel *blockers_, *releases_, *error_;
    QLineEdit *name_, *role_, *remark_, *key_;
    QPushButton *edit_, *write_, *chooseKey_, *newKey_;
};

}  // namespace escultura::app
