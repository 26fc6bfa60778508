#include "duty/load_kind.hpp"

namespace escultura::duty {

// one in each file of loads/
LoadKind forceLoad();
LoadKind bearingLoad();
LoadKind pressureLoad();
LoadKind torqueLoad();
LoadKind remoteForceLoad();
LoadKind gravityLoad();
LoadKind accelerationLoad();
LoadKind spinLoad();
LoadKind displacementLoad();

const std::vector<LoadKind>& loadKinds() {
    static const std::vector<LoadKind> all = {forceLoad(),        bearingLoad(),     pressureLoad(),
                                              torqueLoad(),       remoteForceLoad(), gravityLoad(),
                                              accelerationLoad(), spinLoad(),        displacementLoad()};
    return all;
}

const LoadKind& loadKind(Load::Kind kind) {
    return loadKinds().at(static_cast<std::size_t>(kind));
}

const char* name(Load::Kind kind) {
    return loadKind(kind).key;
}
std::string words(Load::Kind kind) {
    return loadKind(kind).words;
}
std::string describe(const Load& load) {
    return loadKind(load.kind).describe(load);
}
bool Load::onFaces() const {
    return loadKind(kind).onFaces;
}

}  // namespace escultura::duty
