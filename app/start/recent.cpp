#include "start/recent.hpp"

#include <QCryptographicHash>
#include <QDir>
#include <QFileInfo>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QSaveFile>
#include <QStandardPaths>

namespace escultura::app {
namespace {

constexpr int most = 8;

QString folder() {
    const QByteArray chosen = qgetenv("ESCULTURA_RECENT_FOLDER");
    if (!chosen.isEmpty()) return QString::fromLocal8Bit(chosen);
    return QStandardPaths::writableLocation(QStandardPaths::GenericDataLocation) + "/escultura/recent";
}

QString pictureOf(const QString& path) {
    return folder() + "/" + QCryptographicHash::hash(path.toUtf8(), QCryptographicHash::Sha256).toHex().left(24) +
           ".png";
}

QJsonArray stored() {
    QFile file(folder() + "/recent.json");
    if (!file.open(QIODevice::ReadOnly)) return {};
    return QJsonDocument::fromJson(file.readAll()).array();
}

}  // namespace

QList<Recent> recentFiles() {
    QList<Recent> list;
    for (const auto& value : stored()) {
        const QJsonObject o = value.toObject();
        Recent r{
            o["path"].toString(), o["name"].toString(), QDateTime::fromString(o["when"].toString(), Qt::ISODate), {}};
        if (r.path.isEmpty() || !QFileInfo(r.path).isFile() || list.size() >= most) continue;
        r.picture.load(pictureOf(r.path));
        list.append(r);
    }
    return list;
}

void rememberRecent(const QString& path, const QString& name, const QImage& picture) {
    if (path.isEmpty() || !QDir().mkpath(folder())) return;
    QJsonArray next{
        QJsonObject{{"path", path}, {"name", name}, {"when", QDateTime::currentDateTime().toString(Qt::ISODate)}}};
    for (const auto& value : stored()) {
        const QString other = value.toObject()["path"].toString();
        if (other == path) continue;
        if (next.size() < most)
            next.append(value);
        else
            QFile::remove(pictureOf(other));
    }
    QSaveFile file(folder() + "/recent.json");
    if (!file.open(QIODevice::WriteOnly)) return;
    file.write(QJsonDocument(next).toJson());
    file.commit();
    if (!picture.isNull()) picture.save(pictureOf(path));
}

}  // namespace escultura::app
