/// @file report/report.hpp
/// The dossier as a document, and the release folder.

#pragma once
#include <QImage>
#include <string>
#include <vector>

#include "project/project.hpp"
#include "project/run.hpp"
#include "render/renderer.hpp"
#include "report/release_target.hpp"

namespace escultura::report {

/// Writes part.json with its inputs, recipe.json, the bodies, results.vtu, summary.json, report.html, report.pdf,
/// pictures/ and manifest.json with SHA-256 sums. Everything is written beside the folder first (ReleaseDraft): it
/// appears complete or not at all, and never over anything else.
/// @param renderer  draws the pictures; needs a QGuiApplication
/// @param release   whose sign-off is written; null: not signed
/// @param replace   also where an unsigned release is, instead of it
/// @param secretKey  PEM; the manifest is signed with it (manifest.sig, signer.pub); empty: no signature
/// @throws InputError, Cancelled
void writeRelease(const project::Project& project, const project::Variant& variant,
                  const std::vector<project::Timing>& timings, render::Renderer& renderer, const std::string& folder,
                  Progress& progress, const project::Release* release = nullptr, bool replace = false,
                  const std::string& secretKey = {});

/// One thing that was compared with what the folder states.
struct VerifiedItem {
    std::string what, expected, found;
    bool holds = false;
};
/// Compares a release folder's files with their sums, tells everything else that is in it, looks at the signature and,
/// when asked, makes everything again from the folder's inputs and recipe: the summary value by value, the bodies, the
/// results and the report's lines, figures within 1e-6.
/// @param openKey  PEM of the signer, from elsewhere than the folder; empty: the folder's own, which anybody may have
/// put
///                 there
/// @throws InputError when the folder is none; Cancelled
std::vector<VerifiedItem> verifyRelease(const std::string& folder, bool rerun, Progress& progress,
                                        const std::string& openKey = {});

/// Stands before a chapter's number in the contents, where the page number is put.
inline constexpr const char* pageMark = "@page-";

/// Style that only a browser needs: a column of readable width.
inline constexpr const char* screenStyle = "max-width:46em;margin:2em auto;";

/// The report as HTML; pictures are referred to as pictures/NAME.png.
/// @param release  whose sign-off is written; null: not signed
std::string reportHtml(const project::Project& project, const project::Variant& variant,
                       const std::vector<std::string>& pictures, const project::Release* release = nullptr);
/// The report's pages as pictures, A4 at 120 dots an inch.
std::vector<QImage> reportPages(const project::Project& project, const project::Variant& variant,
                                render::Renderer& renderer, Progress& progress,
                                const project::Release* release = nullptr);
/// Name of the picture of a load case from a named view.
std::string viewPicture(const project::NamedView& view, std::size_t loadCase);

}  // namespace escultura::report
