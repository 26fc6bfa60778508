/// Editing the cage in the view: selecting, pulling and painting with mouse and keyboard, each step told to the
/// session. Long because all of them change one selection and one cage.

#include "view/cage_editor.hpp"

#include <QThread>
#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "report/cage_scene.hpp"
#include "widgets.hpp"

namespace escultura::app {

using namespace duty;
using namespace project;

namespace {
constexpr int divisions = 3;  // of the limit surface while editing

QString words(const char* one, const char* many, std::size_t n) {
    return QString("%1 %2").arg(n).arg(n == 1 ? one : many);
}
}  // namespace

CageEditor::CageEditor(Session& session, View& view, QObject* parent)
    : QObject(parent), session_(session), view_(view) {}

void CageEditor::start() {
    if (on_ || session_.isBusy() || !session_.hasProject()) return;
    if (!session_.project().surface(session_.recipe())) {
        emit failed("Build the surface first: the cage wraps it.");
        return;
    }
    auto copy = std::make_shared<Project>(session_.project());
    session_.work(
        "Control cage", [copy](Progress& progress) { runCage(*copy, copy->current().recipe, progress, true); },
        [this] { begin(session_.project().cage(session_.recipe())->target); });
}

void CageEditor::begin(std::shared_ptr<const cage::Target> target) {
    target_ = std::move(target);
    on_ = true;
    selected_.clear();
    view_.setEditing(true);
    view_.setPainting(brush_ > 0);
    digest_ = "-";
    emit session_.changed();
    refresh();
    emit stateChanged();
}

void CageEditor::stop() {
    if (!on_) return;
    on_ = false;
    view_.setEditing(false);
    view_.setHandles({});
    scene_.reset();
    target_.reset();
    emit stateChanged();
    emit session_.changed();
}

void CageEditor::refresh() {
    if (!on_ || dragging_) return;
    const Recipe& r = session_.recipe();
    const CageStep* last = nullptr;
    for (const CageStep& s : r.rebuild.steps)
        if (s.on && s.kind == CageStep::Kind::byHand) last = &s;
    const auto result = session_.lastKnown().cage;
    const std::string digest = last ? last->digest : "automatic " + session_.project().keys(r).cage;
    if (digest == digest_ || (!last && !result)) return;
    digest_ = digest;
    faceSize_ = last ? last->faceSize : result->faceSize;
    adopt(last ? *last->cage : result->cage);
}

CageEditor::~CageEditor() {
    if (!helper_) return;
    helper_->wait();
    delete helper_;
}

void CageEditor::adopt(cage::Cage changed) {
    const bool sameFaces = changed.face == cage_.face && changed.crease == cage_.crease;
    cage_ = std::move(changed);
    if (!sameFaces || !limit_) {
        std::size_t count = cage_.position.size();
        const cage::Connectivity c(cage_);
        edgeVertices_.clear();
        for (const auto& e : c.edge) edgeVertices_.push_back({e.a, e.b});
        if (element_ == Element::edges) count = edgeVertices_.size();
        if (element_ == Element::faces) count = cage_.face.size();
        std::erase_if(selected_, [&](std::int32_t i) { return i >= static_cast<std::int32_t>(count); });
        limit_.reset();
        deviations_.clear();
    }
    flaws_ = cage::inspect(cage_).problems;  // folds and crossings follow
    showScene(true);
    follow();
    emit stateChanged();
}

void CageEditor::follow() {
    if (helper_) {
        again_ = true;
        return;
    }
    again_ = false;
    auto limit = std::make_shared<std::shared_ptr<const cage::LimitMesh>>(limit_);
    auto flaws = std::make_shared<std::vector<cage::CageProblem>>();
    helper_ = QThread::create([cage = cage_, limit, flaws] {
        try {
            if (!*limit) *limit = std::make_shared<const cage::LimitMesh>(cage, divisions);
            *flaws = cage::flawsOf(cage);
        } catch (const std::exception& e) {
            flaws->push_back({e.what(), Vec3::Zero()});
        }
    });
    connect(helper_, &QThread::finished, this, [this, limit, flaws] {
        helper_->deleteLater();
        helper_ = nullptr;
        if (!on_) return;
        if (again_) {  // of an earlier cage
            follow();
            return;
        }
        limit_ = *limit;
        flaws_ = std::move(*flaws);
        showScene(true);
        emit stateChanged();
    });
    helper_->start();
}

void CageEditor::commit(const QString& text, cage::Cage changed) {
    CageStep step = byHandStep(changed, faceSize_);
    digest_ = step.digest;
    adopt(std::move(changed));
    session_.edit(text, [&](Project& p) {
        auto& steps = p.variants[p.open].recipe.rebuild.steps;
        if (!steps.empty() && steps.back().kind == CageStep::Kind::byHand && steps.back().on)
            steps.back() = step;
        else
            steps.push_back(step);
    });
}

void CageEditor::attempt(const QString& text, const std::function<void(cage::Cage&)>& change) {
    if (!on_) return;
    try {
        cage::Cage changed = cage_;
        change(changed);
        commit(text, std::move(changed));
    } catch (const std::exception& e) {
        emit failed(QString::fromStdString(e.what()));
    }
}

cage::Indices CageEditor::vertices() const {
    const cage::Indices all(selected_.begin(), selected_.end());
    if (element_ == Element::edges) return cage::verticesOfEdges(cage_, all);
    if (element_ == Element::faces) return cage::verticesOfFaces(cage_, all);
    return all;
}

cage::Indices CageEditor::faces() const {
    if (element_ == Element::faces) return {selected_.begin(), selected_.end()};
    return cage::facesWithin(cage_, vertices());
}

cage::Indices CageEditor::edges() const {
    if (element_ == Element::edges) return {selected_.begin(), selected_.end()};
    return cage::edgesWithin(cage_, vertices());
}

std::vector<std::array<Vec3, 2>> CageEditor::mirrors() const {
    std::vector<std::array<Vec3, 2>> planes;
    if (symmetric_)
        for (const SymmetryPlane& s : session_.part().symmetry) planes.push_back({s.point, s.normal});
    return planes;
}

std::optional<Vec3> CageEditor::middle() const {
    const auto v = vertices();
    if (v.empty()) return std::nullopt;
    Vec3 sum = Vec3::Zero();
    for (auto i : v) sum += cage_.position[i];
    return sum / static_cast<double>(v.size());
}

Mat3 CageEditor::axes() const {
    Mat3 a = Mat3::Identity();
    if (frame_ == FrameOf::interface) {
        if (const Interface* i = session_.part().findInterface(interface_.toStdString())) {
            const auto uv = perpendicular(i->axis);
            a.col(0) = uv[0];
            a.col(1) = uv[1];
            a.col(2) = i->axis;
        }
    } else if (frame_ == FrameOf::selection) {
        // z along the mean normal of the faces around the selection
        Vec3 n = Vec3::Zero();
        const auto list = vertices();
        const std::set<std::int32_t> in(list.begin(), list.end());
        for (const auto& q : cage_.face)
            if (std::any_of(q.begin(), q.end(), [&](auto v) { return in.contains(v); }))
                n += (cage_.position[q[2]] - cage_.position[q[0]]).cross(cage_.position[q[3]] - cage_.position[q[1]]);
        if (n.norm() > 1e-9) {
            n.normalize();
            const auto uv = perpendicular(n);
            a.col(0) = uv[0];
            a.col(1) = uv[1];
            a.col(2) = n;
        }
    }
    return a;
}

void CageEditor::setElement(Element element) {
    if (element == element_) return;
    const auto v = vertices();
    element_ = element;
    selected_.clear();
    const auto kept = element == Element::vertices ? v
                      : element == Element::edges  ? cage::edgesWithin(cage_, v)
                                                   : cage::facesWithin(cage_, v);
    select({kept.begin(), kept.end()});
}

void CageEditor::setTool(Tool tool) {
    tool_ = tool;
    if (on_) placeHandles();
}

void CageEditor::setFrame(FrameOf frame, const QString& interface) {
    frame_ = frame;
    interface_ = interface;
    if (on_) placeHandles();
}

void CageEditor::setSoftRadius(double mm) {
    soft_ = mm;
}

void CageEditor::setSymmetric(bool on) {
    symmetric_ = on;
}

void CageEditor::setShowDeviation(bool on) {
    deviation_ = on;
    if (on_) showScene(true);
}

void CageEditor::select(std::set<std::int32_t> elements) {
    selected_ = std::move(elements);
    if (on_) showScene(false);
    emit stateChanged();
}

void CageEditor::growSelection() {
    const auto v = cage::grown(cage_, vertices());
    const auto kept = element_ == Element::vertices ? v
                      : element_ == Element::edges  ? cage::edgesWithin(cage_, v)
                                                    : cage::facesWithin(cage_, v);
    select({kept.begin(), kept.end()});
}

void CageEditor::selectLoop() {
    std::set<std::int32_t> all;
    for (auto e : edges()) {
        const auto loop = cage::loopOf(cage_, e);
        all.insert(loop.begin(), loop.end());
    }
    if (all.empty()) {
        emit failed("Select an edge first: the loop runs on from it.");
        return;
    }
    element_ = Element::edges;
    select(std::move(all));
}

void CageEditor::selectRing() {
    std::set<std::int32_t> all;
    for (auto e : edges()) {
        const auto ring = cage::ringOf(cage_, e);
        all.insert(ring.begin(), ring.end());
    }
    if (all.empty()) {
        emit failed("Select an edge first: the ring runs across its faces.");
        return;
    }
    element_ = Element::edges;
    select(std::move(all));
}

void CageEditor::selectDeviating(double mm) {
    if (!on_ || !target_ || !limit_) return;
    std::set<std::int32_t> faces;
    const auto mesh = limit_->at(cage_.position);
    const auto distance = cage::signedDistances(*target_, mesh.position);
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t)
        for (auto v : mesh.triangle[t])
            if (std::abs(distance[v]) > mm) faces.insert(limit_->faceOf()[t]);
    element_ = Element::faces;
    select(std::move(faces));
}

void CageEditor::selectNear(const Vec3& place, double mm) {
    std::set<std::int32_t> near;
    for (std::size_t v = 0; v < cage_.position.size(); ++v)
        if ((cage_.position[v] - place).norm() <= mm) near.insert(static_cast<std::int32_t>(v));
    element_ = Element::vertices;
    select(std::move(near));
}

void CageEditor::clickedAt(const QPointF& at, Qt::KeyboardModifiers modifiers) {
    if (!on_ || !limit_) return;
    std::int32_t found = -1;
    const auto hit = view_.hitAt(at);
    const std::int32_t face = hit && hit->triangle < static_cast<std::int32_t>(limit_->faceOf().size())
                                  ? limit_->faceOf()[hit->triangle]
                                  : -1;
    auto toSegment = [&](const QPointF& a, const QPointF& b) {
        const QPointF d = b - a;
        const double l = QPointF::dotProduct(d, d);
        const double t = l > 0 ? std::clamp(QPointF::dotProduct(at - a, d) / l, 0.0, 1.0) : 0;
        return QLineF(at, a + t * d).length();
    };
    const Vec3 direction = view_.camera().direction;
    // vertices nearest to the eye count: the view hides nothing that could be meant
    if (element_ == Element::vertices) {
        double best = 14;
        for (std::size_t v = 0; v < cage_.position.size(); ++v) {
            const double d = QLineF(view_.placeOf(cage_.position[v]), at).length();
            if (d > 14) continue;
            // what lies behind the body is not meant
            if (hit && (cage_.position[v] - hit->position).dot(direction) > 1.5 * cage::meanEdge(cage_)) continue;
            if (d < best) {
                best = d;
                found = static_cast<std::int32_t>(v);
            }
        }
    } else if (element_ == Element::faces) {
        found = face;
    } else if (face >= 0) {
        const cage::Connectivity c(cage_);
        double best = 1e9;
        for (auto e : c.edgeOfFace[face]) {
            const double d =
                toSegment(view_.placeOf(cage_.position[c.edge[e].a]), view_.placeOf(cage_.position[c.edge[e].b]));
            if (d < best) {
                best = d;
                found = e;
            }
        }
    }
    std::set<std::int32_t> next;
    if (modifiers & (Qt::ShiftModifier | Qt::ControlModifier)) next = selected_;
    if (found >= 0 && !next.insert(found).second) next.erase(found);
    select(std::move(next));
}

void CageEditor::regionDrawn(const QPolygonF& region, Qt::KeyboardModifiers modifiers) {
    if (!on_) return;
    std::set<std::int32_t> inside;
    for (std::size_t v = 0; v < cage_.position.size(); ++v)
        if (region.containsPoint(view_.placeOf(cage_.position[v]), Qt::OddEvenFill))
            inside.insert(static_cast<std::int32_t>(v));
    const cage::Indices list(inside.begin(), inside.end());
    const auto kept = element_ == Element::vertices ? list
                      : element_ == Element::edges  ? cage::edgesWithin(cage_, list)
                                                    : cage::facesWithin(cage_, list);
    std::set<std::int32_t> next(kept.begin(), kept.end());
    if (modifiers & Qt::ShiftModifier) next.insert(selected_.begin(), selected_.end());
    select(std::move(next));
}

void CageEditor::setBrush(double mm) {
    brush_ = mm;
    if (brush_ > 0 && element_ != Element::faces) setElement(Element::faces);
    view_.setPainting(on_ && brush_ > 0);
    showScene(true);
}

void CageEditor::paintAt(const QPointF& at, Qt::KeyboardModifiers modifiers) {
    if (!on_ || !limit_ || brush_ <= 0) return;
    const auto hit = view_.hitAt(at);
    if (!hit || hit->triangle >= static_cast<std::int32_t>(limit_->faceOf().size())) return;
    std::set<std::int32_t> next = selected_;
    const bool takesOut = modifiers & Qt::ShiftModifier;
    for (std::size_t f = 0; f < cage_.face.size(); ++f) {
        const auto face = static_cast<std::int32_t>(f);
        const bool under = face == limit_->faceOf()[hit->triangle];
        if (!under && (cage::middleOf(cage_, face) - hit->position).norm() > brush_) continue;
        // what looks away from the viewer lies on the other side of a thin wall
        const auto& q = cage_.face[f];
        const Vec3 n = (cage_.position[q[2]] - cage_.position[q[0]]).cross(cage_.position[q[3]] - cage_.position[q[1]]);
        if (!under && n.dot(view_.camera().direction) > 0) continue;
        if (takesOut)
            next.erase(face);
        else
            next.insert(face);
    }
    if (next != selected_) select(std::move(next));
}

std::pair<std::vector<Vec3>, double> CageEditor::selectedRegion() const {
    std::vector<Vec3> middles;
    double radius = 0;
    for (auto f : faces()) {
        const Vec3 middle = cage::middleOf(cage_, f);
        for (auto v : cage_.face[f]) radius = std::max(radius, (cage_.position[v] - middle).norm());
        middles.push_back(middle);
    }
    for (const auto& [point, normal] : mirrors())
        for (std::size_t i = 0, count = middles.size(); i < count; ++i)
            middles.push_back(middles[i] - 2 * (middles[i] - point).dot(normal) * normal);
    return {middles, radius};
}

void CageEditor::placeHandles() {
    const auto at = middle();
    std::vector<View::Handle> handles;
    if (at) {
        const Mat3 a = axes();
        const double arm = 70 * view_.camera().height / std::max(1, view_.height());
        if (tool_ == Tool::move) handles.push_back({10, *at, Vec3::Zero()});
        for (int k = 0; k < 3; ++k) handles.push_back({11 + k, *at + arm * a.col(k), a.col(k)});
        if (tool_ == Tool::scale) handles.push_back({10, *at, Vec3::Zero()});
    }
    view_.setHandles(std::move(handles));
}

void CageEditor::handleMoved(int id, const Vec3& place, bool done) {
    if (!on_ || !limit_ || id < 10 || id > 13) return;
    if (!dragging_) {
        dragging_ = true;
        before_ = cage_;
        const auto at = middle();
        if (!at) {
            dragging_ = false;
            return;
        }
        dragFrom_ = *at;
        weights_ = cage::softWeights(cage_, vertices(), soft_);
    }
    const Mat3 a = axes();
    const double arm = 70 * view_.camera().height / std::max(1, view_.height());
    const Vec3 home = id == 10 ? dragFrom_ : Vec3(dragFrom_ + arm * a.col(id - 11));
    const Vec3 moved = place - home;
    Eigen::Affine3d by = Eigen::Affine3d::Identity();
    QString text = "Move cage";
    if (tool_ == Tool::move || (id == 10 && tool_ != Tool::scale)) {
        by = Eigen::Affine3d(Eigen::Translation3d(moved));
    } else {
        Eigen::Affine3d inner = Eigen::Affine3d::Identity();
        if (tool_ == Tool::turn) {
            // the arm's length is one radian
            inner = Eigen::Affine3d(Eigen::AngleAxisd(moved.dot(a.col(id - 11)) / arm, a.col(id - 11)));
            text = "Turn cage";
        } else {
            Vec3 factor = Vec3::Ones();
            const double f =
                std::max(0.05, 1 + (id == 10 ? moved.dot(view_.camera().screenUp()) : moved.dot(a.col(id - 11))) / arm);
            if (id == 10)
                factor.setConstant(f);
            else
                factor[id - 11] = f;
            inner = Eigen::Affine3d(Mat3(a * factor.asDiagonal() * a.transpose()));
            text = "Scale cage";
        }
        by = Eigen::Translation3d(dragFrom_) * inner * Eigen::Translation3d(-dragFrom_);
    }
    cage::Cage next = before_;
    cage::transform(next, weights_, by, mirrors());
    if (done) {
        dragging_ = false;
        cage_ = before_;
        commit(text, std::move(next));
        placeHandles();
    } else {
        cage_ = std::move(next);
        showScene(false);
    }
}

void CageEditor::applyTransform(const QString& text, const Eigen::Affine3d& by) {
    if (vertices().empty()) {
        emit failed("Select something of the cage first.");
        return;
    }
    attempt(text, [&](cage::Cage& c) { cage::transform(c, cage::softWeights(c, vertices(), soft_), by, mirrors()); });
}

void CageEditor::moveBy(const Vec3& by) {
    applyTransform("Move cage", Eigen::Affine3d(Eigen::Translation3d(axes() * by)));
}

void CageEditor::turnBy(const Vec3& degrees) {
    const auto at = middle();
    if (!at) return applyTransform("Turn cage", Eigen::Affine3d::Identity());
    const Mat3 a = axes();
    Eigen::Affine3d turn = Eigen::Affine3d::Identity();
    for (int k = 0; k < 3; ++k) turn = Eigen::AngleAxisd(degrees[k] * M_PI / 180, a.col(k)) * turn;
    applyTransform("Turn cage", Eigen::Translation3d(*at) * turn * Eigen::Translation3d(-*at));
}

void CageEditor::scaleBy(const Vec3& factors) {
    const auto at = middle();
    if (!at) return applyTransform("Scale cage", Eigen::Affine3d::Identity());
    const Mat3 a = axes();
    applyTransform("Scale cage", Eigen::Translation3d(*at) *
                                     Eigen::Affine3d(Mat3(a * factors.asDiagonal() * a.transpose())) *
                                     Eigen::Translation3d(-*at));
}

void CageEditor::extrude(double distance) {
    attempt("Extrude faces", [&](cage::Cage& c) { cage::extrude(c, faces(), distance); });
}

void CageEditor::bridge(int segments) {
    // the selected faces fall into two patches
    const auto list = faces();
    const std::set<std::int32_t> in(list.begin(), list.end());
    std::vector<cage::Indices> patches;
    std::set<std::int32_t> seen;
    const cage::Connectivity c(cage_);
    for (auto f : in) {
        if (!seen.insert(f).second) continue;
        cage::Indices patch{f};
        for (std::size_t i = 0; i < patch.size(); ++i)
            for (auto e : c.edgeOfFace[patch[i]]) {
                const auto g = c.across(e, patch[i]);
                if (g >= 0 && in.contains(g) && seen.insert(g).second) patch.push_back(g);
            }
        patches.push_back(patch);
    }
    if (patches.size() != 2) {
        emit failed(QString("A bridge joins two patches of faces; %1 selected.")
                        .arg(words("patch is", "patches are", patches.size())));
        return;
    }
    attempt("Bridge faces", [&](cage::Cage& x) { cage::bridge(x, patches[0], patches[1], segments); });
    selectNone();
}

void CageEditor::insertLoop() {
    const auto list = edges();
    if (list.size() != 1) {
        emit failed("Select the one edge that the new loop is to cut.");
        return;
    }
    attempt("Insert loop", [&](cage::Cage& c) { cage::insertLoop(c, list.front()); });
    selectNone();
}

void CageEditor::split() {
    attempt("Split faces", [&](cage::Cage& c) { cage::split(c, faces()); });
    selectNone();
}

void CageEditor::collapse() {
    const auto list = faces();
    if (list.size() != 1) {
        emit failed("Select the one face that is to be closed.");
        return;
    }
    // along the shorter diagonal
    const auto& q = cage_.face[list.front()];
    const bool first =
        (cage_.position[q[0]] - cage_.position[q[2]]).norm() <= (cage_.position[q[1]] - cage_.position[q[3]]).norm();
    attempt("Collapse face", [&](cage::Cage& c) { cage::collapse(c, list.front(), first ? 0 : 1); });
    selectNone();
}

void CageEditor::dissolve() {
    const auto list = edges();
    if (list.empty()) {
        emit failed("Select an edge: the ring of faces across it goes.");
        return;
    }
    attempt("Dissolve ring", [&](cage::Cage& c) { cage::dissolveRing(c, list.front()); });
    selectNone();
}

void CageEditor::crease(double sharpness) {
    attempt("Set crease", [&](cage::Cage& c) { cage::setCrease(c, edges(), sharpness); });
}

void CageEditor::removeSelected() {
    attempt("Delete faces", [&](cage::Cage& c) { cage::removeFaces(c, faces()); });
    selectNone();
}

void CageEditor::fillHoles() {
    attempt("Fill holes", [&](cage::Cage& c) { cage::fillHoles(c); });
}

void CageEditor::relax() {
    attempt("Relax cage", [&](cage::Cage& c) { cage::relax(c, vertices(), 5); });
}

void CageEditor::snap() {
    if (target_) attempt("Snap to surface", [&](cage::Cage& c) { cage::snapTo(c, vertices(), *target_); });
}

void CageEditor::fit() {
    if (!on_ || !target_ || session_.isBusy()) return;
    auto changed = std::make_shared<cage::Cage>(cage_);
    cage::FitOptions options;
    options.iterations = 6;
    options.fairness = 0.01;
    options.symmetry = mirrors();
    if (!selected_.empty()) {
        options.held.assign(cage_.position.size(), 1);
        for (auto v : vertices()) options.held[v] = 0;
        options.symmetry.clear();  // held vertices lead
    }
    session_.work(
        "Fitting the cage",
        [changed, options, target = target_](Progress& p) { cage::fitCage(*changed, *target, options, p); },
        [this, changed] {
            if (on_) commit("Fit cage", std::move(*changed));
        });
}

QString CageEditor::state() const {
    if (!on_) return "The cage is not being edited.";
    QString s = words("face", "faces", cage_.face.size());
    const char* one[] = {"vertex", "edge", "face"};
    const char* many[] = {"vertices", "edges", "faces"};
    const int e = static_cast<int>(element_);
    s += selected_.empty() ? " · nothing selected" : " · " + words(one[e], many[e], selected_.size()) + " selected";
    if (const auto at = middle())
        s += QString(" around (%1, %2, %3) mm").arg(num((*at)[0]), num((*at)[1]), num((*at)[2]));
    if (!flaws_.empty())
        s += QString(" · %1 to repair: %2")
                 .arg(words("place", "places", flaws_.size()), QString::fromStdString(flaws_.front().text));
    return s;
}

void CageEditor::showScene(bool settled) {
    if (!on_ || !limit_) return;
    const surface::TriMesh limit = limit_->at(cage_.position);
    const auto normals = limit_->normalsAt(cage_.position);
    report::CageView v;
    v.cage = &cage_;
    v.limit = &limit;
    v.faceOf = &limit_->faceOf();
    v.normal = &normals;
    if (deviation_ && target_ && settled) deviations_ = cage::signedDistances(*target_, limit.position);
    if (deviation_ && deviations_.size() == limit.position.size()) v.deviation = &deviations_;
    if (element_ == Element::faces) {
        v.selectedFace.assign(cage_.face.size(), 0);
        for (auto f : selected_) v.selectedFace[f] = 1;
    }
    if (element_ == Element::edges)
        for (auto e : selected_) v.selectedEdges.push_back(edgeVertices_[e]);
    if (settled || !dragging_) v.flaws = flaws_;
    v.caption = "Editing the control cage";
    v.detail = brush_ > 0 ? "drag paints, Shift takes out; Ctrl and drag draws a box, Alt and drag a lasso"
                          : "click selects, Shift adds, Ctrl and drag draws a box, Alt and drag a lasso";
    scene_ = report::cageScene(v);
    view_.setScene(scene_, false);
    // dots for vertices, with the normals of the limit surface beside them
    std::vector<View::Dot> dots(cage_.position.size());
    std::vector<Vec3> sum(cage_.position.size(), Vec3::Zero());
    for (const auto& q : cage_.face) {
        const Vec3 n = (cage_.position[q[2]] - cage_.position[q[0]]).cross(cage_.position[q[3]] - cage_.position[q[1]]);
        for (auto k : q) sum[k] += n;
    }
    const auto chosen = element_ == Element::faces ? cage::Indices{} : vertices();  // faces have their colour
    for (std::size_t i = 0; i < dots.size(); ++i) dots[i] = {cage_.position[i], sum[i].normalized(), false};
    for (auto i : chosen) dots[i].selected = true;
    if (element_ != Element::vertices) std::erase_if(dots, [](const View::Dot& d) { return !d.selected; });
    view_.setDots(std::move(dots));
    if (!dragging_) placeHandles();
}

}  // namespace escultura::app
