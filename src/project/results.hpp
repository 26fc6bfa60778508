/// @file project/results.hpp
/// Results of stages by the key of what they came from.

#pragma once
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <tuple>

#include "duty/part.hpp"
#include "stages/analysis.hpp"
#include "stages/check_stage.hpp"
#include "stages/field_stage.hpp"
#include "stages/findings_stage.hpp"
#include "stages/optimise_stage.hpp"
#include "stages/rebuild_stage.hpp"
#include "stages/surface_stage.hpp"

namespace escultura::project {
using namespace duty;
using namespace stages;

/// A density field as read, with the digest of its contents.
struct LoadedSource {
    field::DensityField field;
    std::string digest;
};

/// Results by key. Thread-safe; results are immutable once stored.
class Results {
  public:
    template <class T>
    std::shared_ptr<const T> find(const std::string& key) const {
        const std::lock_guard lock(mutex_);
        const auto at = map<T>().find(key);
        return at == map<T>().end() ? nullptr : at->second;
    }
    template <class T>
    std::shared_ptr<const T> store(const std::string& key, T value) {
        auto shared = std::make_shared<const T>(std::move(value));
        const std::lock_guard lock(mutex_);
        map<T>()[key] = shared;
        return shared;
    }
    /// Takes over a result that another store holds.
    template <class T>
    void share(const std::string& key, std::shared_ptr<const T> value) {
        const std::lock_guard lock(mutex_);
        map<T>()[key] = std::move(value);
    }
    template <class T>
    std::map<std::string, std::shared_ptr<const T>> all() const {
        const std::lock_guard lock(mutex_);
        return map<T>();
    }

  private:
    template <class T>
    using Map = std::map<std::string, std::shared_ptr<const T>>;
    template <class T>
    const Map<T>& map() const {
        return std::get<Map<T>>(maps_);
    }
    template <class T>
    Map<T>& map() {
        return std::get<Map<T>>(maps_);
    }
    mutable std::mutex mutex_;
    std::tuple<Map<LoadedSource>, Map<MadeField>, Map<FieldResult>, Map<surface::TriMesh>, Map<SurfaceResult>,
               Map<ProcessResult>, Map<CageResult>, Map<RebuildResult>, Map<MeshResult>, Map<CheckResult>,
               Map<FindingsResult>, Map<HotspotTests>, Map<ExcludedNodes>, Map<Part>, Map<AnalysisResult>>
        maps_;
};

}  // namespace escultura::project
