/// @file dossier/analysis_rows.hpp
/// The further analyses on the Check card: which are asked for, their numbers, what they found.

#pragma once
#include <QCheckBox>
#include <QLabel>
#include <QPushButton>
#include <QWidget>

#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class AnalysisRows : public QWidget {
    Q_OBJECT
  public:
    explicit AnalysisRows(Session& session, QWidget* parent = nullptr);
    void refresh();

  signals:
    /// The first shape of an analysis is to be shown. @param kind  AnalysisKind::key
    void shapeAsked(const QString& kind);
    void errorChanged(const QString& sentence);

  private:
    struct Row {
        const duty::AnalysisKind* kind;
        QCheckBox* asked;
        std::vector<QuantityEdit*> numbers;  ///< as in AnalysisKind::numbers
        QLabel* found;
        QPushButton* show;
    };
    void addRow(const duty::AnalysisKind& kind);
    void edit(const QString& text, const duty::AnalysisKind& kind,
              const std::function<void(std::vector<duty::AnalysisChoice>&)>& change);
    Session& session_;
    std::vector<Row> rows_;
};

/// "412 Hz", "none", with the value that counts where it is lower.
QString figureWords(const stages::AnalysisFigure& figure);

}  // namespace escultura::app
