/// @file store/journal.hpp
/// What was done since a project was opened, on disk after every step: a process that is killed loses at most the step
/// that was not complete. One SQLite database in write-ahead mode, locked while its process lives.

#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "project/project.hpp"

namespace escultura::store {
using namespace project;

class Journal {
  public:
    /// Starts a journal with the state of a project. @param projectPath  the file it was read from; empty: none
    /// @param resultsSaved  the project's results are in that file: only newer ones are kept
    /// @throws InputError when the file cannot be written or another process holds it
    Journal(const std::string& path, const Project& project, const std::string& projectPath, bool resultsSaved = true);
    /// Closes the journal; the file stays until discard().
    ~Journal();
    Journal(const Journal&) = delete;
    Journal& operator=(const Journal&) = delete;

    /// Adds a step. It is on disk when the call returns. @throws InputError when the disk is full
    void append(const HistoryEntry& entry);
    /// Keeps results that are not kept yet, in a file of their own, so that steps never wait for them. May run in
    /// another thread than append(). @throws InputError when the disk is full
    void keep(const Results& results);
    /// Closes and removes the file: everything is saved elsewhere, or given up.
    void discard();
    const std::string& path() const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

/// What a journal tells of work that was not saved.
struct Unsaved {
    std::string path;  ///< of the journal
    std::string partName, partPath, projectPath;
    std::vector<HistoryEntry> steps;  ///< the first is the state at the start
};

/// @return none when the file is held by a living process, or holds no step after the start
/// @throws InputError when it is no journal
std::optional<Unsaved> readJournal(const std::string& path);
/// Journals in a folder that no process holds, newest first; what cannot be read is left out.
std::vector<Unsaved> unsavedWork(const std::string& folder);

/// Removes a journal: what it holds is taken over or given up.
void discard(const Unsaved& unsaved);

/// Opens the project or part that the journal began with and puts its last state back.
/// @throws InputError, Cancelled
Project recover(const Unsaved& unsaved, Progress& progress);

/// Adds a step to the project's history; states of the oldest steps are dropped beyond a hundred.
HistoryEntry record(Project& project, const std::string& text, const std::string& who, const std::string& time);

}  // namespace escultura::store
