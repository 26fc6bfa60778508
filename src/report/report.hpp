/// @file report/report.hpp
/// The dossier as a document, and the release folder.

#pragma once
#include <string>
#include <vector>

#include "project/project.hpp"
#include "render/renderer.hpp"

namespace escultura::report {

/// Refuses an output folder that cannot be made or written, before any work is done. @throws InputError
void requireWritableFolder(const std::string& folder);

/// Writes part.json, surface.stl, results.vtu, summary.json, report.html, report.pdf, pictures/ and manifest.json with
/// SHA-256 sums. Everything is written beside the folder first: it appears complete or not at all.
/// @param renderer  draws the pictures; needs a QGuiApplication
/// @throws InputError, Cancelled
void writeRelease(const project::Project& project, const project::Variant& variant,
                  const std::vector<project::Timing>& timings, render::Renderer& renderer, const std::string& folder,
                  Progress& progress);

/// The report as HTML; pictures are referred to as pictures/NAME.png.
std::string reportHtml(const project::Project& project, const project::Variant& variant,
                       const std::vector<std::string>& pictures);

}  // namespace escultura::report
