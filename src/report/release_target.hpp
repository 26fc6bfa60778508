/// @file report/release_target.hpp
/// The place that a release goes to: written beside it in full, then there at once, and never over something else.

#pragma once
#include <string>

namespace escultura::report {

/// A folder beside the target that becomes the target when it is complete. What a killed program left of such folders
/// goes when the next one is made.
class ReleaseDraft {
  public:
    /// The target must not be there, be empty, or, with `replace`, hold an unsigned release and nothing else.
    /// @throws InputError when it is something else, or cannot be made
    ReleaseDraft(const std::string& target, bool replace);
    ReleaseDraft(const ReleaseDraft&) = delete;
    ReleaseDraft& operator=(const ReleaseDraft&) = delete;
    /// Removes what was not published.
    ~ReleaseDraft();

    const std::string& path() const { return draft_; }
    /// Makes sure that every file is on the disk, then puts the folder in the target's place by one renaming.
    /// @throws InputError; the target is then as it was
    void publish();

  private:
    std::string target_, draft_;
    bool replace_;
};

/// The same conditions, looked at before long work begins. @throws InputError
void requireReleaseTarget(const std::string& target, bool replace);

}  // namespace escultura::report
