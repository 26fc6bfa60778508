/// @file project/records.hpp
/// What people and runs leave behind in a project: dispositions, where variants come from, studies, releases, history.

#pragma once
#include <array>
#include <cstdint>
#include <limits>
#include <map>
#include <string>
#include <vector>

#include "base/geometry.hpp"
#include "stages/findings_stage.hpp"

namespace escultura::project {

/// The engineer's signed decision on a finding. Holds for the results it was made on, and for others while the same
/// finding is found there with the same geometry around it.
struct Disposition {
    std::string findingsKey;  ///< key of the findings result
    std::string finding;      ///< id
    std::string decision;     ///< "accept", "fix", "follow up"
    std::string reason, by, date;
    std::string kind;              ///< of the finding, and its class, when it was signed
    Vec3 position = Vec3::Zero();  ///< mm
    double peak = 0;               ///< MPa; other findings: 0
    double reach = 0;              ///< of the print, mm
    stages::LocalPrint print{};
    bool operator==(const Disposition&) const = default;
};

/// The proposal that a variant was made from, and what it was expected to do.
struct Origin {
    std::int64_t variant = 0;  ///< id of the variant it was applied to; 0: none
    std::string finding, proposal;
    Vec3 position = Vec3::Zero();  ///< of the finding, mm
    double reach = 0;              ///< the effect is measured within this distance, mm
    double before = 0;             ///< safety factor there
    double low = 0, high = 0;      ///< predicted
    double mass = 0;               ///< predicted change, kg
    bool operator==(const Origin&) const = default;
};

/// One evaluation of a study.
struct Evaluation {
    std::vector<double> values;             ///< of the parameters
    std::map<std::string, double> figures;  ///< "mass", "safety factor", "displacement" and each requirement by name
    bool meetsAll = false;
    bool tested = false;  ///< its governing hotspots are: the figures prove something
    std::string problem;  ///< why it gave no figures
    double seconds = 0;
    bool operator==(const Evaluation&) const = default;
};

/// A sweep over parameters of a recipe.
struct Study {
    enum class Kind {
        local,   ///< every parameter by a small step
        range,   ///< one parameter over a range
        search,  ///< the lightest variant that meets all requirements
    } kind = Kind::local;
    struct Axis {
        std::string place;  ///< of the parameter
        std::string label, unit;
        double start = 0, low = 0, high = 0;
        bool operator==(const Axis&) const = default;
    };
    std::int64_t variant = 0;  ///< id of the variant it starts from
    std::string digest;        ///< of the start: evaluations hold for it only
    std::vector<Axis> axes;
    double step = 0.05;     ///< local: share of each parameter's value (or of its range, when it is 0)
    int evaluations = 9;    ///< range: points; search: most evaluations
    bool standard = false;  ///< checks at level 'standard', else 'look'
    std::vector<Evaluation> done;
    int best = -1;  ///< search: index of the winner; -1: none meets all
    bool operator==(const Study&) const = default;
};
const char* name(Study::Kind kind);

/// A numbered snapshot that never changes.
struct Release {
    int number = 0;
    std::int64_t variant = 0;
    std::string variantName, name, role, date, remark;
    std::string recipe;   ///< JSON
    std::string part;     ///< text of the part file
    std::string summary;  ///< JSON, as summary.json
    std::string check;    ///< key of the check
    bool operator==(const Release&) const = default;
};

/// Who did what when.
struct HistoryEntry {
    std::string time, who, text;
    std::string state;  ///< JSON of everything that undo restores, after the step
    bool operator==(const HistoryEntry&) const = default;
};

}  // namespace escultura::project
