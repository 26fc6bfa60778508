/// @file project/results.hpp
/// Results of stages by the key of what they came from.

#pragma once
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <tuple>
#include <typeindex>
#include <vector>

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

/// Where results go that take too much memory: implemented above, where they are written to disk.
class Shelter {
  public:
    virtual ~Shelter() = default;
    /// Memory that a result takes, bytes; 0: one of its type is never given up.
    virtual double bytes(std::type_index type, const void* value) const = 0;
    /// Whether one of this type is dropped instead of kept, because it is made again when it is needed.
    virtual bool isDropped(std::type_index type) const = 0;
    /// @return whether it is kept now
    virtual bool put(std::type_index type, const std::string& key, const void* value) = 0;
    /// Null: it is lost. Another type than that of put() is an error of the program.
    virtual std::shared_ptr<const void> take(std::type_index type, const std::string& key) = 0;
};

/// Results by key. Thread-safe; results are immutable once stored. With a shelter those that nobody holds and that were
/// used least recently leave the memory when all together take more than a budget; find() brings them back.
class Results {
  public:
    template <class T>
    std::shared_ptr<const T> find(const std::string& key) const {
        return found<T>(key, true);
    }
    /// The same without bringing it back into memory for longer than the caller holds it.
    template <class T>
    std::shared_ptr<const T> peek(const std::string& key) const {
        return found<T>(key, false);
    }
    template <class T>
    std::shared_ptr<const T> store(const std::string& key, T value) {
        auto shared = std::make_shared<const T>(std::move(value));
        share(key, shared);
        return shared;
    }
    /// Takes over a result that another store holds.
    template <class T>
    void share(const std::string& key, std::shared_ptr<const T> value) {
        {
            const std::lock_guard lock(mutex_);
            Entry<T>& e = map<T>()[key];
            e = {};
            e.bytes = shelter_ ? shelter_->bytes(typeid(T), value.get()) : 0;
            e.used = e.stored = ++clock_;
            e.value = std::move(value);
        }
        makeRoom();
    }
    /// Keys of all results of a type, in memory or not.
    template <class T>
    std::vector<std::string> keys() const {
        const std::lock_guard lock(mutex_);
        std::vector<std::string> all;
        for (const auto& [key, entry] : map<T>()) all.push_back(key);
        return all;
    }
    /// Those in memory.
    template <class T>
    std::map<std::string, std::shared_ptr<const T>> all() const {
        const std::lock_guard lock(mutex_);
        std::map<std::string, std::shared_ptr<const T>> held;
        for (const auto& [key, entry] : map<T>())
            if (entry.value) held[key] = entry.value;
        return held;
    }
    /// @param budget  memory that results may take together, bytes
    void setShelter(std::shared_ptr<Shelter> shelter, double budget);
    /// Memory that results take, as far as the shelter tells, bytes.
    double bytesHeld() const;

  private:
    template <class T>
    struct Entry {
        std::shared_ptr<const T> value;  ///< null: sheltered
        std::weak_ptr<const T> last;     ///< while sheltered: it may still be held by somebody
        double bytes = 0;
        std::uint64_t used = 0, stored = 0;  ///< by clock_
        bool isSheltered = false;
    };
    template <class T>
    using Map = std::map<std::string, Entry<T>>;
    template <class T>
    Map<T>& map() const {
        return std::get<Map<T>>(maps_);
    }
    template <class T>
    std::shared_ptr<const T> found(const std::string& key, bool keep) const {
        for (;;) {
            std::shared_ptr<Shelter> shelter;
            std::uint64_t stored = 0;
            {
                const std::lock_guard lock(mutex_);
                const auto at = map<T>().find(key);
                if (at == map<T>().end()) return nullptr;
                Entry<T>& e = at->second;
                e.used = ++clock_;
                if (e.value) return e.value;
                if (auto held = e.last.lock()) {
                    if (keep) e.value = held;
                    return held;
                }
                shelter = shelter_;
                stored = e.stored;
            }
            if (!shelter) return nullptr;
            // reading takes its time: not under the lock
            auto value = std::static_pointer_cast<const T>(shelter->take(typeid(T), key));
            const std::lock_guard lock(mutex_);
            const auto at = map<T>().find(key);
            if (at == map<T>().end()) return value;
            if (at->second.stored != stored) continue;  // another one was stored meanwhile
            if (at->second.value) return at->second.value;
            if (!value) {
                map<T>().erase(at);  // lost: out of date, and made again
                return nullptr;
            }
            if (keep) at->second.value = value;
            at->second.last = value;
            return value;
        }
    }
    /// Gives up what was used least recently until the budget is kept.
    void makeRoom();
    /// Of one result, as long as it is the one stored then. @return whether it has left the memory
    template <class T>
    bool giveUp(Map<T>& map, Shelter& shelter, const std::string& key, std::uint64_t stored);

    mutable std::mutex mutex_;
    std::mutex makingRoom_;
    mutable std::uint64_t clock_ = 0;
    std::shared_ptr<Shelter> shelter_;
    double budget_ = 0;
    mutable std::tuple<Map<LoadedSource>, Map<MadeField>, Map<FieldResult>, Map<surface::TriMesh>, Map<SurfaceResult>,
                       Map<ProcessResult>, Map<CageResult>, Map<RebuildResult>, Map<MeshResult>, Map<CheckResult>,
                       Map<FindingsResult>, Map<HotspotTests>, Map<ExcludedNodes>, Map<Part>, Map<AnalysisResult>>
        maps_;
};

}  // namespace escultura::project
