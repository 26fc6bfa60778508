#include "dossier/analysis_rows.hpp"

#include <QSignalBlocker>
#include <QVBoxLayout>
#include <cmath>

#include "dossier/card_parts.hpp"
#include "theme/theme.hpp"

namespace escultura::app {

using namespace duty;
using namespace project;

QString figureWords(const stages::AnalysisFigure& f) {
    const QString unit = f.unit.empty() ? QString() : " " + text(f.unit);
    if (std::isinf(f.value)) return "none";
    QString words = num(f.value, 4) + unit;
    if (f.counts < 0.995 * f.value) words += ", counts as " + num(f.counts, 4) + unit;
    return words;
}

AnalysisRows::AnalysisRows(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(4);
    for (const AnalysisKind& kind : analysisKinds()) addRow(kind);
}

void AnalysisRows::addRow(const AnalysisKind& kind) {
    Row r{&kind, new QCheckBox(kind.words), {}, label("", "muted"), new QPushButton("Show")};
    const QString key = kind.key;
    r.asked->setObjectName("asks " + key);
    r.asked->setToolTip(kind.hint);
    r.found->setObjectName("found " + key);
    r.found->setWordWrap(true);
    r.show->setObjectName("shows " + key);
    theme::fix(r.show, theme::Length::width, 64);
    r.show->setToolTip("Shows its shapes in the view, where all of them are listed");
    auto* head = new QHBoxLayout;
    head->setSpacing(6);
    head->addWidget(r.asked, 1);
    for (const AnalysisNumber& n : kind.numbers) {
        auto* box = new QuantityEdit(dimension::none, n.unit, n.least, n.most);
        box->setObjectName(key + " " + n.key);
        box->setAccessibleName(QString(kind.words) + ", " + n.label);
        theme::fix(box, theme::Length::width, 48);
        head->addWidget(box);
        head->addWidget(label(n.label, "muted"));
        connect(box, &QuantityEdit::errorChanged, this, &AnalysisRows::errorChanged);
        connect(box, &QuantityEdit::valueEntered, this, [this, &kind, &n](double v) {
            if (n.whole && v != std::round(v)) {
                emit errorChanged(QString("%1: a whole number is wanted, not %2.").arg(n.label, num(v)));
                return;
            }
            edit(QString("Numbers of %1").arg(kind.words), kind, [&](std::vector<AnalysisChoice>& all) {
                for (AnalysisChoice& c : all)
                    if (c.kind == kind.key) c.numbers[n.key] = v;
            });
        });
        r.numbers.push_back(box);
    }
    auto* foot = new QHBoxLayout;
    foot->setContentsMargins(22, 0, 0, 4);
    foot->addWidget(r.found, 1);
    foot->addWidget(r.show, 0, Qt::AlignTop);
    auto* own = static_cast<QVBoxLayout*>(layout());
    own->addLayout(head);
    own->addLayout(foot);
    connect(r.asked, &QCheckBox::clicked, this, [this, &kind](bool on) {
        session_.edit(on ? QString("Ask for %1").arg(kind.words) : QString("Leave out %1").arg(kind.words),
                      [&](Project& p) {
                          auto& all = p.variants[p.open].recipe.analyses;
                          std::erase_if(all, [&](const AnalysisChoice& c) { return c.kind == kind.key; });
                          if (on) all.push_back({kind.key});
                      });
    });
    connect(r.show, &QPushButton::clicked, this, [this, key] { emit shapeAsked(key); });
    rows_.push_back(r);
}

void AnalysisRows::edit(const QString& text, const AnalysisKind& kind,
                        const std::function<void(std::vector<AnalysisChoice>&)>& change) {
    session_.edit(text, [&](Project& p) {
        auto& all = p.variants[p.open].recipe.analyses;
        const AnalysisChoice chosen = choiceOf(p.variants[p.open].recipe, kind.key);
        std::erase_if(all, [&](const AnalysisChoice& c) { return c.kind == kind.key; });
        all.push_back(chosen);
        change(all);
    });
}

void AnalysisRows::refresh() {
    const Project& p = session_.project();
    const Recipe& recipe = session_.recipe();
    const Part& part = session_.part();
    for (Row& r : rows_) {
        const std::string key = r.kind->key;
        const bool needed = std::any_of(part.requirements.begin(), part.requirements.end(),
                                        [&](const Requirement& q) { return analysisOf(q) == r.kind; });
        const bool chosen = std::any_of(recipe.analyses.begin(), recipe.analyses.end(),
                                        [&](const AnalysisChoice& c) { return c.kind == key; });
        const QSignalBlocker block(r.asked);
        r.asked->setChecked(chosen || needed);
        r.asked->setEnabled(!needed);
        r.asked->setToolTip(needed ? QString("%1 A requirement needs it.").arg(r.kind->hint) : QString(r.kind->hint));
        const AnalysisChoice choice = choiceOf(recipe, key);
        for (std::size_t n = 0; n < r.numbers.size(); ++n) {
            r.numbers[n]->setValue(choice.number(r.kind->numbers[n].key));
            r.numbers[n]->setVisible(chosen || needed);
        }
        const auto found = p.analysis(recipe, key);
        QString words;
        if (found && (chosen || needed)) {
            for (const RequirementKind& f : r.kind->figures)
                if (const stages::AnalysisFigure* figure = found->find(f.key))
                    words += (words.isEmpty() ? "" : "; ") + text(figure->label) + " " + figureWords(*figure) +
                             (figure->loadCase.empty() ? QString() : " in " + text(figure->loadCase));
            QString notes;
            for (const std::string& note : found->notes) notes += text(note) + "\n";
            r.found->setToolTip(notes.trimmed());
        } else if (chosen || needed) {
            words = "not worked out yet: run the check";
            r.found->setToolTip({});
        }
        r.found->setText(words);
        r.found->setVisible(!words.isEmpty());
        r.show->setVisible(found && !found->shapes.empty());
    }
}

}  // namespace escultura::app
