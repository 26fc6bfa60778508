/// @file report/animation.hpp
/// Pictures in motion: animated WebP.

#pragma once
#include <QImage>
#include <string>
#include <vector>

namespace escultura::report {

/// Writes frames of one size as an endless animation, in one step beside the old file.
/// @param milliseconds  of each frame
/// @throws InputError when there is no frame, the sizes differ or the file cannot be written
void writeAnimation(const std::string& path, const std::vector<QImage>& frames, int milliseconds);

}  // namespace escultura::report
