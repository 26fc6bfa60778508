#include "shape/kept_faces.hpp"

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <numeric>

namespace escultura::shape {
namespace {

constexpr double none = std::numeric_limits<double>::infinity();

double distanceTo(const Box3& box, const Vec3& p) {
    return (box.low - p).cwiseMax(p - box.high).cwiseMax(0.0).norm();
}

}  // namespace

void linkBorder(FacePatch& patch, double near) {
    auto& all = patch.border;
    // ends sorted along x: the few within reach are compared
    std::vector<std::size_t> starts(all.size());
    std::iota(starts.begin(), starts.end(), 0);
    std::sort(starts.begin(), starts.end(), [&](auto s, auto t) { return all[s].a.x() < all[t].a.x(); });
    for (std::size_t s = 0; s < all.size(); ++s) {
        auto at = std::lower_bound(starts.begin(), starts.end(), all[s].b.x() - near,
                                   [&](std::size_t t, double x) { return all[t].a.x() < x; });
        for (; at != starts.end() && all[*at].a.x() <= all[s].b.x() + near; ++at)
            if ((all[*at].a - all[s].b).norm() <= near && *at != s && all[*at].previous < 0) {
                all[s].next = static_cast<int>(*at);
                all[*at].previous = static_cast<int>(s);
                break;
            }
    }
}

KeptFaces::KeptFaces(std::vector<FacePatch> patches) : patches_(std::move(patches)) {
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        FacePatch& patch = patches_[k];
        reach_ = std::max(reach_, patch.clearance + patch.margin);
        margin_ = std::max(margin_, patch.margin);
        shared_.emplace_back(patch.border.size(), 0);
        std::vector<std::array<Vec3, 2>> ends;
        for (std::size_t s = 0; s < patch.border.size(); ++s) {
            const auto& piece = patch.border[s];
            auto with = [&](int other) {
                return other < 0 ? piece.inward
                                 : Vec3(piece.inward + patch.border[static_cast<std::size_t>(other)].inward);
            };
            ends.push_back({with(piece.previous), with(piece.next)});
        }
        ends_.push_back(std::move(ends));
    }
    findShared();
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        chunks_.push_back(chunksOf(k));
        std::vector<Chunk> balls;
        const auto& chunks = chunks_.back();
        for (std::size_t c = 0; c < chunks.size(); ++c) {
            const Chunk& chunk = chunks[c];
            if (balls.empty() || balls.back().last - balls.back().first == 8 || balls.back().outer != chunk.outer ||
                balls.back().edge != chunk.edge || balls.back().shared != chunk.shared) {
                balls.push_back(chunk);
                balls.back().first = balls.back().last = static_cast<std::uint32_t>(c);
            }
            ++balls.back().last;
        }
        for (Chunk& ball : balls) {
            Box3 box;
            for (std::size_t c = ball.first; c < ball.last; ++c) box.include(chunks[c].centre);
            ball.centre = box.centre();
            ball.radius = 0;
            for (std::size_t c = ball.first; c < ball.last; ++c)
                ball.radius = std::max(ball.radius, (chunks[c].centre - ball.centre).norm() + chunks[c].radius);
        }
        groupsOfChunks_.push_back(std::move(balls));
    }
    static std::atomic<std::uint64_t> last{0};
    id_ = ++last;
}

std::vector<KeptFaces::Chunk> KeptFaces::chunksOf(std::size_t k) const {
    std::vector<Chunk> chunks;
    const auto& border = patches_[k].border;
    for (std::size_t s = 0; s < border.size(); ++s) {
        const bool edge = border[s].beyond == FacePatch::Beyond::edge, shared = shared_[k][s] != 0;
        if (chunks.empty() || chunks.back().last - chunks.back().first == 8 || chunks.back().outer != border[s].outer ||
            chunks.back().edge != edge || chunks.back().shared != shared ||
            (border[s].a - border[s - 1].b).norm() > 1e-6)
            chunks.push_back({Vec3::Zero(), 0, static_cast<std::uint32_t>(s), static_cast<std::uint32_t>(s),
                              border[s].outer, edge, shared});
        ++chunks.back().last;
    }
    for (Chunk& c : chunks) {
        Box3 box;
        for (std::size_t s = c.first; s < c.last; ++s) {
            box.include(border[s].a);
            box.include(border[s].b);
        }
        c.centre = box.centre();
        for (std::size_t s = c.first; s < c.last; ++s)
            c.radius = std::max({c.radius, (border[s].a - c.centre).norm(), (border[s].b - c.centre).norm()});
    }
    return chunks;
}

void KeptFaces::findShared() {
    struct Piece {
        Vec3 middle;
        int patch, segment;
    };
    std::vector<Piece> pieces;
    for (std::size_t k = 0; k < patches_.size(); ++k)
        for (std::size_t s = 0; s < patches_[k].border.size(); ++s) {
            const auto& piece = patches_[k].border[s];
            pieces.push_back({0.5 * (piece.a + piece.b), static_cast<int>(k), static_cast<int>(s)});
        }
    std::vector<int> parent(patches_.size());
    std::iota(parent.begin(), parent.end(), 0);
    auto root = [&](int k) {
        while (parent[static_cast<std::size_t>(k)] != k) k = parent[static_cast<std::size_t>(k)];
        return k;
    };
    std::sort(pieces.begin(), pieces.end(), [](const Piece& a, const Piece& b) { return a.middle.x() < b.middle.x(); });
    constexpr double near = 1e-5;  // mm
    for (std::size_t i = 0; i < pieces.size(); ++i)
        for (std::size_t k = i + 1; k < pieces.size() && pieces[k].middle.x() - pieces[i].middle.x() <= near; ++k) {
            const Piece &a = pieces[i], &b = pieces[k];
            if (a.patch == b.patch || (a.middle - b.middle).norm() > near) continue;
            const auto pa = static_cast<std::size_t>(a.patch), pb = static_cast<std::size_t>(b.patch);
            shared_[pa][static_cast<std::size_t>(a.segment)] = shared_[pb][static_cast<std::size_t>(b.segment)] = 1;
            if (patches_[pa].border[static_cast<std::size_t>(a.segment)].beyond == FacePatch::Beyond::smooth &&
                patches_[pa].interface == patches_[pb].interface)
                parent[static_cast<std::size_t>(root(a.patch))] = root(b.patch);
        }
    std::vector<int> number(patches_.size(), -1);
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        int& n = number[static_cast<std::size_t>(root(static_cast<int>(k)))];
        if (n < 0) n = groupCount_++;
        groups_.push_back(n);
    }
}

namespace {

/// The pieces of a border that are nearest to a place, as they are found.
struct NearestPieces {
    double nearest = none, outer = none;    ///< of all; of the border around the face, mm
    double plain = none, edge = none;       ///< of that, where nothing is shared: inner and outer edges
    double end = none, outerEnd = none;     ///< where the face ends: not shared
    double side = -1, outerSide = -1;       ///< 1: the place lies beyond the nearest piece
    double past = 0;                        ///< beyond the end of an outer edge where another kind begins, mm
    bool onShared = false, onEdge = false;  ///< what the nearest outer piece is
    Vec3 nearestAway = Vec3::Zero(), endAway = Vec3::Zero();  ///< unit vectors from them to the place

    /// @param shared  [segments]; @param ends  inward directions at both ends of the segment
    void take(const Vec3& foot, const std::vector<FacePatch::Segment>& border, std::size_t s,
              const std::vector<char>& shared, const std::array<Vec3, 2>& ends) {
        const auto& piece = border[s];
        const Vec3 along = piece.b - piece.a;
        const double length2 = along.squaredNorm();
        const double t = length2 > 0 ? (foot - piece.a).dot(along) / length2 : 0.0;
        const Vec3 away = foot - piece.a - std::clamp(t, 0.0, 1.0) * along;
        const double d = away.norm();
        const bool isShared = shared[s] != 0, isEdge = piece.beyond == FacePatch::Beyond::edge;
        const auto unit = [&] { return d > 1e-9 ? Vec3(away / d) : Vec3(-piece.inward); };
        if (!isShared) {  // where another face goes on nothing ends
            if (d < end) {
                end = d;
                endAway = unit();
            }
            if (piece.outer) {
                outerEnd = std::min(outerEnd, d);
                (isEdge ? edge : plain) = std::min(isEdge ? edge : plain, d);
            }
        }
        if (d >= nearest && (!piece.outer || d >= outer)) return;
        const double inside = away.dot(t < 0 ? ends[0] : t > 1 ? ends[1] : piece.inward);
        if (d < nearest) {
            nearest = d;
            side = inside < 0 ? 1 : -1;
            nearestAway = unit();
        }
        if (!piece.outer || d >= outer) return;
        outer = d;
        outerSide = inside < 0 ? 1 : -1;
        onShared = isShared;
        onEdge = isEdge;
        const int beside = t < 0 ? piece.previous : t > 1 ? piece.next : -1;
        const bool isLast = beside >= 0 && !shared[static_cast<std::size_t>(beside)] &&
                            border[static_cast<std::size_t>(beside)].beyond != FacePatch::Beyond::edge;
        past = isLast ? std::sqrt(length2) * (t < 0 ? -t : t - 1) : 0;
    }
};

}  // namespace

KeptFaces::Border KeptFaces::borderAt(std::size_t k, const Vec3& foot) const {
    const FacePatch& patch = patches_[k];
    NearestPieces found;
    // the nearest ball first: most of the others are then too far to matter
    const auto& chunks = chunks_[k];
    const auto& balls = groupsOfChunks_[k];
    auto least = [&](const Chunk& c) { return (foot - c.centre).norm() - c.radius; };
    std::size_t first = 0;
    double firstLeast = none;
    for (std::size_t c = 0; c < balls.size(); ++c)
        if (const double d = least(balls[c]); d < firstLeast) {
            firstLeast = d;
            first = c;
        }
    auto lookInto = [&](std::size_t ball) {
        const Chunk& all = balls[ball];
        const double most = std::max({found.nearest, all.outer ? found.outer : 0.0, all.shared ? 0.0 : found.end,
                                      all.outer && !all.shared ? (all.edge ? found.edge : found.plain) : 0.0});
        if (least(all) >= most) return;
        for (std::size_t c = all.first; c < all.last; ++c) {
            const double d = least(chunks[c]);
            if (d >= found.nearest && (all.shared || d >= found.end) &&
                (!all.outer || (d >= found.outer && (all.shared || d >= (all.edge ? found.edge : found.plain)))))
                continue;
            for (std::size_t s = chunks[c].first; s < chunks[c].last; ++s)
                found.take(foot, patch.border, s, shared_[k], ends_[k][s]);
        }
    };
    if (!balls.empty()) lookInto(first);
    for (std::size_t c = 0; c < balls.size(); ++c)
        if (c != first) lookInto(c);
    Border b;
    const bool isBeyond = found.nearest < none && found.side > 0;
    b.across = isBeyond ? found.nearest : -found.end;
    // inside it grows towards the border
    b.beyond = isBeyond ? found.nearestAway : found.end > 1e-9 ? Vec3(-found.endAway) : found.endAway;
    b.filled = found.outer < none && found.outerSide > 0 ? found.outer : -found.outerEnd;
    if (found.outer == none || found.outerSide < 0 || found.onShared)
        b.front = -std::min(found.plain, found.edge + patch.margin);
    else if (!found.onEdge)
        b.front = found.outer;
    else  // beyond the end of an edge where another kind begins nothing is cleared
        b.front = found.past > 0 ? std::max(found.outer - patch.margin, found.past) : found.outer - patch.margin;
    return b;
}

double KeptFaces::boxDistance(const Vec3& p, int interface) const {
    double least = none;
    for (const FacePatch& patch : patches_)
        if (interface < 0 || patch.interface == interface) least = std::min(least, distanceTo(patch.box, p));
    return least;
}

KeptFaces::Nearest KeptFaces::nearest(const Vec3& p, double reach, int interface) const {
    if (reach < none) return nearestOf(p, reach, interface);
    // a solid asks for the same place several times
    struct Known {
        std::uint64_t id = 0;
        int interface = 0;
        Vec3 p;
        Nearest nearest;
    };
    thread_local std::array<Known, 8> known;
    Known& k = known[static_cast<std::size_t>(interface + 1) % known.size()];
    if (k.id != id_ || k.interface != interface || k.p != p) {
        k.nearest = nearestOf(p, reach, interface);
        k.id = id_;
        k.interface = interface;
        k.p = p;
    }
    return k.nearest;
}

KeptFaces::Nearest KeptFaces::nearestOf(const Vec3& p, double reach, int interface) const {
    Nearest best;
    auto look = [&](std::size_t k) {
        Nearest n;
        n.height = heightAbove(k, p, n.normal);
        if (std::abs(n.height) > std::min(reach, best.distance + 4 * borderError)) return;
        n.foot = p - n.height * n.normal;
        const Border b = borderAt(k, n.foot);
        n.across = b.across;
        n.front = b.front;
        n.filled = b.filled;
        n.beyond = b.beyond;
        n.distance = std::hypot(n.height, std::max(n.across, 0.0));
        n.patch = static_cast<int>(k);
        if (n.distance > reach) return;
        // where an edge is nearest it is so for both faces, as exactly as its segments are: the one that looks at the
        // place tells its side
        const double slack = 3 * borderError + 1e-7 * n.distance;
        const bool tie = std::abs(n.distance - best.distance) <= slack;
        if (tie ? std::abs(n.height) > std::abs(best.height) : n.distance < best.distance) best = n;
    };
    // the one with the nearest box first; the others in their order
    std::size_t first = patches_.size();
    double nearestBox = reach;
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        if (interface >= 0 && patches_[k].interface != interface) continue;
        if (const double d = distanceTo(patches_[k].box, p);
            d <= nearestBox && (first == patches_.size() || d < nearestBox)) {
            nearestBox = d;
            first = k;
        }
    }
    if (first == patches_.size()) return best;
    look(first);
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        if (k == first || (interface >= 0 && patches_[k].interface != interface)) continue;
        const double least = distanceTo(patches_[k].box, p);
        if (least <= reach && least <= best.distance + 4 * borderError) look(k);
    }
    return best;
}

KeptFaces::Before KeptFaces::before(const Vec3& p) const {
    const Nearest n = nearest(p, reach_ + 1);
    if (n.patch < 0) return {-std::max(boxDistance(p, -1) - reach_, 0.5), -1};
    const double other = std::min(patches_[static_cast<std::size_t>(n.patch)].clearance - n.height, -n.front);
    return n.height <= other ? Before{n.height, n.patch} : Before{other, -1};
}

double KeptFaces::walls(const Vec3& p) const {
    const Nearest n = nearest(p, 2 * reach_ + 1);
    return n.patch < 0 ? -reach_ : std::min(patches_[static_cast<std::size_t>(n.patch)].clearance - n.height, -n.front);
}

double KeptFaces::height(int group, const Vec3& p, Vec3* gradient) const {
    double best = none, value = 0, most = 0;
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        if (groups_[k] != group) continue;
        if (distanceTo(patches_[k].box, p) > best + 4 * borderError) continue;
        Vec3 normal;
        const double h = heightAbove(k, p, normal);
        const double across = borderAt(k, p - h * normal).across;
        const double d = std::hypot(h, std::max(across, 0.0));
        const bool tie = std::abs(d - best) <= 3 * borderError + 1e-7 * d;
        if (!(tie ? std::abs(h) > most : d < best)) continue;
        best = d;
        value = h;
        most = std::abs(h);
        if (gradient) *gradient = normal;
    }
    return value;
}

bool KeptFaces::holds(int group, const Vec3& p, double slack) const {
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        if (groups_[k] != group || distanceTo(patches_[k].box, p) > 10 * slack + 0.02 * patches_[k].box.diagonal())
            continue;
        Vec3 normal;
        const double h = heightAbove(k, p, normal);
        if (borderAt(k, p - h * normal).across <= slack) return true;
    }
    return false;
}

double KeptFaces::layer(const Vec3& p, int interface, double before, double behind, double grown, bool filled) const {
    const double around = this->around(before, behind, grown, filled), box = boxDistance(p, interface);
    if (box > around + 1) return box - around;
    const Nearest n = nearest(p, none, interface);
    const double thick = std::max(n.height - before, -n.height - behind);
    if (!filled) return std::max(thick, n.across - grown);
    // holes stay open; outside the face it reaches as far as the space before it
    return std::max(thick, n.filled < 0 ? std::max(n.across, n.front) : n.front);
}

Vec3 FaceLayer::gradient(const Vec3& p) const {
    const double around = faces_->around(before_, behind_, grown_, filled_);
    if (faces_->boxDistance(p, interface_) > around + 1) return FreeBody::gradient(p);
    const auto n = faces_->nearest(p, none, interface_);
    const double thick = std::max(n.height - before_, -n.height - behind_);
    const double across = filled_ ? (n.filled < 0 ? std::max(n.across, n.front) : n.front) : n.across - grown_;
    if (n.patch >= 0 && !filled_ && across > thick && n.beyond.norm() > 0.5) return n.beyond;
    if (n.patch >= 0 && thick >= across) return n.height - before_ >= -n.height - behind_ ? n.normal : Vec3(-n.normal);
    return FreeBody::gradient(p);
}

}  // namespace escultura::shape
