#include "project/results.hpp"

#include <algorithm>

namespace escultura::project {

void Results::setShelter(std::shared_ptr<Shelter> shelter, double budget) {
    {
        const std::lock_guard lock(mutex_);
        shelter_ = std::move(shelter);
        budget_ = budget;
        std::apply(
            [&]<class... M>(M&... maps) {
                auto weigh = [&]<class T>(std::map<std::string, Entry<T>>& map) {
                    for (auto& [key, e] : map)
                        if (e.value) e.bytes = shelter_ ? shelter_->bytes(typeid(T), e.value.get()) : 0;
                };
                (weigh(maps), ...);
            },
            maps_);
    }
    makeRoom();
}

double Results::bytesHeld() const {
    const std::lock_guard lock(mutex_);
    double sum = 0;
    std::apply(
        [&](auto&... maps) {
            auto add = [&](auto& map) {
                for (auto& [key, e] : map)
                    if (e.value) sum += e.bytes;
            };
            (add(maps), ...);
        },
        maps_);
    return sum;
}

void Results::makeRoom() {
    const std::lock_guard alone(makingRoom_);  // files are written in the order in which their results were stored
    struct Held {
        std::uint64_t used;
        double bytes;
        std::function<bool()> giveUp;  // whether it has left the memory
    };
    std::vector<Held> held;
    double sum = 0, budget = 0;
    {
        const std::lock_guard lock(mutex_);
        if (!shelter_) return;
        budget = budget_;
        auto gather = [&]<class T>(std::map<std::string, Entry<T>>& map) {
            for (auto& [key, e] : map) {
                if (!e.value || e.bytes <= 0) continue;
                sum += e.bytes;
                if (e.value.use_count() > 1) continue;  // somebody shows it or works with it
                held.push_back({e.used, e.bytes, [this, &map, shelter = shelter_, key = key, stored = e.stored] {
                                    return giveUp<T>(map, *shelter, key, stored);
                                }});
            }
        };
        std::apply([&](auto&... maps) { (gather(maps), ...); }, maps_);
    }
    std::sort(held.begin(), held.end(), [](const Held& a, const Held& b) { return a.used < b.used; });
    for (const Held& h : held) {
        if (sum <= budget) break;
        if (h.giveUp()) sum -= h.bytes;
    }
}

template <class T>
bool Results::giveUp(Map<T>& map, Shelter& shelter, const std::string& key, std::uint64_t stored) {
    std::shared_ptr<const T> value;
    bool isKept = shelter.isDropped(typeid(T));
    const bool isDropped = isKept;
    {
        const std::lock_guard lock(mutex_);
        const auto at = map.find(key);
        if (at == map.end() || at->second.stored != stored) return false;
        value = at->second.value;
        isKept = isKept || at->second.isSheltered;
    }
    if (!value) return false;
    // writing takes its time: not under the lock
    if (!isKept && !shelter.put(typeid(T), key, value.get())) return false;  // no room there either
    const std::lock_guard lock(mutex_);
    const auto at = map.find(key);
    if (at == map.end() || at->second.stored != stored) return false;  // another one was stored meanwhile
    at->second.isSheltered = !isDropped;
    if (value.use_count() > 2) return false;  // somebody has asked for it meanwhile
    if (isDropped) {
        map.erase(at);
    } else {
        at->second.last = value;
        at->second.value.reset();
    }
    return true;
}

}  // namespace escultura::project
