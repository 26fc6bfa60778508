/// @file fixtures.hpp
/// What several tests share: a folder that goes with the program, comparing numbers, the opened lever.

#pragma once
#include <QTemporaryDir>
#include <QtTest>
#include <cmath>

#include "made_up_part.hpp"
#include "project/project.hpp"
#include "project/run.hpp"

namespace escultura::made_up {

inline QTemporaryDir& folder() {
    static QTemporaryDir dir;
    return dir;
}

/// Whether a value is right within a share; says what it was.
inline bool near(double value, double exact, double tolerance) {
    if (std::abs(value / exact - 1) < tolerance) return true;
    qWarning("%.10g is not %.10g within %g", value, exact, tolerance);
    return false;
}

/// The lever, opened and run up to a stage.
/// @param change  of its recipe, before it runs
inline project::Project openLever(project::Stage upTo, const std::function<void(duty::Recipe&)>& change) {
    Progress progress;
    project::Project p = project::openPart(writeLever(folder().path().toStdString()), progress);
    change(p.variants[0].recipe);
    project::run(p, p.variants[0].recipe, upTo, progress);
    return p;
}

}  // namespace escultura::made_up
