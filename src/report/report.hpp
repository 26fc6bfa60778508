/// @file report/report.hpp
/// The dossier as a document, and the release folder.

#pragma once
#include <QImage>
#include <string>
#include <vector>

#include "project/project.hpp"
#include "render/renderer.hpp"

namespace escultura::report {

/// Refuses an output folder that cannot be made or written, before any work is done. @throws InputError
void requireWritableFolder(const std::string& folder);

/// Writes part.json with its inputs, recipe.json, the bodies, results.vtu, summary.json, report.html, report.pdf,
/// pictures/ and manifest.json with SHA-256 sums. Everything is written beside the folder first: it appears complete or
/// not at all.
/// @param renderer  draws the pictures; needs a QGuiApplication
/// @param release   whose sign-off is written; null: not signed
/// @throws InputError, Cancelled
void writeRelease(const project::Project& project, const project::Variant& variant,
                  const std::vector<project::Timing>& timings, render::Renderer& renderer, const std::string& folder,
                  Progress& progress, const project::Release* release = nullptr);

/// One thing that was compared with what the folder states.
struct VerifiedItem {
    std::string what, expected, found;
    bool holds = false;
};
/// Compares a release folder's files with their sums and, when asked, runs the check again from the folder's inputs and
/// compares its figures within 1e-6.
/// @throws InputError when the folder is none; Cancelled
std::vector<VerifiedItem> verifyRelease(const std::string& folder, bool rerun, Progress& progress);

/// Stands before a chapter's number in the contents, where the page number is put.
inline constexpr const char* pageMark = "@page-";

/// The report as HTML; pictures are referred to as pictures/NAME.png.
/// @param release  whose sign-off is written; null: not signed
std::string reportHtml(const project::Project& project, const project::Variant& variant,
                       const std::vector<std::string>& pictures, const project::Release* release = nullptr);
/// The report's pages as pictures, A4 at 96 dots an inch.
std::vector<QImage> reportPages(const project::Project& project, const project::Variant& variant,
                                render::Renderer& renderer, Progress& progress,
                                const project::Release* release = nullptr);
/// Name of the picture of a load case from a named view.
std::string viewPicture(const project::NamedView& view, std::size_t loadCase);

}  // namespace escultura::report
