/// @file start/recent.hpp
/// Parts and projects that were open last, with a picture each; kept in the user's data folder.

#pragma once
#include <QDateTime>
#include <QImage>
#include <QList>

namespace escultura::app {

struct Recent {
    QString path, name;
    QDateTime when;
    QImage picture;  ///< may be empty
};

/// Those whose files are still there, the latest first; at most eight. What cannot be read is left out.
QList<Recent> recentFiles();
/// Puts a file first. @param picture  empty: the one it had stays. A folder that cannot be written is no error: nothing
/// is remembered then.
void rememberRecent(const QString& path, const QString& name, const QImage& picture);

}  // namespace escultura::app
