/// @file settings.hpp
/// What the window keeps from one start to the next.

#pragma once
#include <QSettings>
#include <QStandardPaths>
#include <memory>

namespace escultura::app {

/// Where the signer's key is (never the key), how large the shelf is.
inline std::unique_ptr<QSettings> settings() {
    return std::make_unique<QSettings>(
        QStandardPaths::writableLocation(QStandardPaths::AppConfigLocation) + "/settings.ini", QSettings::IniFormat);
}

}  // namespace escultura::app
