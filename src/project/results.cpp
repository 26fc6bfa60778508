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
    const std::lock_guard lock(mutex_);
    if (!shelter_) return;
    struct Held {
        std::uint64_t used;
        double bytes;
        std::function<void()> giveUp;
    };
    std::vector<Held> held;
    double sum = 0;
    std::apply(
        [&](auto&... maps) {
            auto gather = [&]<class T>(std::map<std::string, Entry<T>>& map) {
                for (auto& [key, e] : map) {
                    if (!e.value || e.bytes <= 0) continue;
                    sum += e.bytes;
                    if (e.value.use_count() > 1) continue;  // somebody shows it or works with it
                    held.push_back({e.used, e.bytes, [this, &map, &key = key, &e = e, &sum] {
                                        const double bytes = e.bytes;
                                        if (shelter_->isDropped(typeid(T))) {
                                            map.erase(std::string(key));
                                        } else {
                                            if (!e.isSheltered && !shelter_->put(typeid(T), key, e.value.get()))
                                                return;  // no room there either
                                            e.isSheltered = true;
                                            e.last = e.value;
                                            e.value.reset();
                                        }
                                        sum -= bytes;
                                    }});
                }
            };
            (gather(maps), ...);
        },
        maps_);
    if (sum <= budget_) return;
    std::sort(held.begin(), held.end(), [](const Held& a, const Held& b) { return a.used < b.used; });
    for (const Held& h : held) {
        if (sum <= budget_) break;
        h.giveUp();
    }
}

}  // namespace escultura::project
