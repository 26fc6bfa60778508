/// Interfaces from what is clicked in the view: planes, bores, pins, points of a rim, faces of the original.

#include <QThreadPool>
#include <cmath>

#include "base/error.hpp"
#include "exchange/step_faces.hpp"
#include "shape/lines.hpp"
#include "stages/kept_faces.hpp"
#include "surface/recognise.hpp"
#include "tools/interfaces_panel.hpp"

namespace escultura::app {

using duty::EndKind;
using duty::Interface;

namespace {
constexpr double keptDepth = 5;  // mm, behind a picked face of a designed body
}

void InterfacesPanel::startPicking(bool points) {
    // the faces of a STEP file are read beside the interface, so that a click finds them there
    if (const duty::BodySource* body = session_.project().part.bodyOfFaces())
        QThreadPool::globalInstance()->start([source = *body] {
            try {
                if (exchange::isStepFile(source.path)) stages::stepFacesOf(source);
            } catch (const InputError&) {  // told when a face is clicked
            }
        });
    auto* button = points ? points_ : face_;
    (points ? face_ : points_)->setChecked(false);
    picked_.clear();
    proposal_.reset();
    form_->hide();
    copyForm_->hide();
    showValues();
    say(!button->isChecked() ? ""
        : points             ? "Click three points on the rim of a bore."
                             : "Click a face: a plane, a bore, a pin, or any face of the original.");
    emit pickingAsked(button->isChecked());
}

void InterfacesPanel::proposeOutline(const surface::TriMesh& mesh, const surface::FittedFace& face, duty::Interface i,
                                     const QString& residual) {
    // a designed face as it is: its outline with the holes in it, material kept behind it
    double radius = 0;
    for (auto& loop : surface::bordersOf(mesh, face.triangles, face.point, face.axis)) {
        for (Vec3& p : loop) {
            p -= i.origin;
            radius = std::max(radius, p.norm());
        }
        i.outline.push_back(loop);
    }
    i.ringDiameter = 2 * radius;
    i.length = keptDepth;
    i.start.clearMargin = 0;
    propose(i, QString("Plane with its outline, %1 mm²%2. A typed diameter makes it a disc.")
                   .arg(num(shape::Outline(i.axis, i.outline).area(), 4), residual));
}

void InterfacesPanel::pickPoint(const surface::TriMesh& mesh, const Vec3& place) {
    Interface i;
    i.blendRadius = 4;
    picked_.push_back(place);
    say(QString("%1 of 3 points").arg(picked_.size()));
    if (picked_.size() < 3) return;
    const auto circle = surface::circleThrough(picked_[0], picked_[1], picked_[2]);
    picked_.clear();
    if (!circle) {
        say("The points lie on a line: click three others.");
        return;
    }
    i.kind = Interface::Kind::boss;
    // from the rim into the material: towards the body's middle
    Box3 box;
    for (const Vec3& p : mesh.position) box.include(p);
    i.axis = circle->axis.dot(box.centre() - circle->centre) < 0 ? Vec3(-circle->axis) : circle->axis;
    i.origin = circle->centre;
    i.boreDiameter = 2 * circle->radius;
    i.ringDiameter = 2 * i.boreDiameter;
    i.length = i.boreDiameter;
    propose(i, QString("Circle of Ø %1 mm through the points.").arg(num(i.boreDiameter, 4)));
}

void InterfacesPanel::pick(const surface::TriMesh& mesh, double roughness, const Vec3& place, int triangle) {
    Interface i;
    i.blendRadius = 4;
    if (points_->isChecked()) return pickPoint(mesh, place);
    if (!face_->isChecked()) return;
    const bool designed = !(roughness > 0);
    clicked_ = place;
    if (proposal_ && proposal_->isOfLines()) return toggleLine(place);
    if (designed && proposal_ && proposal_->kind == Interface::Kind::faces) {
        pickKept(place);
        if (kept_) return showKept();
        proposal_.reset();
        form_->hide();
        say("Click a face.");
        return;
    }
    kept_.reset();
    if (designed) pickKept(place);
    auto face = surface::recogniseFace(mesh, triangle, roughness);
    // planes and whole cylinders have kinds of their own; of anything else the face itself is taken
    if (kept_ && (!face || !kept_->isPlain())) {
        proposal_ = kept_->interface(keptDepth);
        return showKept();
    }
    if (!face) {
        say("Neither a plane nor a cylinder: click another face.");
        return;
    }
    QString residual = QString(", off by %1 mm RMS, at most %2 mm").arg(num(face->rms, 2), num(face->largest, 2));
    // cells tell a direction to a few degrees: one that is nearly along an axis is taken as meant so, and told
    if (roughness > 0)
        for (int a = 0; a < 3; ++a) {
            const double turn = std::acos(std::min(1.0, std::abs(face->axis[a]))) * 180 / M_PI;
            if (turn >= 5) continue;
            face->axis = (face->axis[a] < 0 ? -1.0 : 1.0) * Vec3::Unit(a);
            if (turn > 0.1) residual += QString(", taken along %1 (%2° off)").arg("xyz"[a]).arg(num(turn, 2));
        }
    using Kind = surface::FittedFace::Kind;
    if (face->kind == Kind::plane) {
        i.kind = Interface::Kind::pad;
        i.origin = face->point;
        i.axis = -face->axis;
        i.ringDiameter = 2 * face->reach;
        i.length = std::max(2.0, 0.2 * i.ringDiameter);
        i.end.kind = EndKind::blind;
        if (roughness > 0) {
            propose(i, "Plane" + residual + ".");
            return;
        }
        proposeOutline(mesh, *face, i, residual);
        return;
    }
    i.kind = face->kind == Kind::bore ? Interface::Kind::boss : Interface::Kind::pin;
    i.axis = face->axis;
    i.origin = face->point + face->low * face->axis;
    i.length = face->high - face->low;
    if (face->kind == Kind::bore) {
        i.boreDiameter = 2 * face->radius;
        i.ringDiameter = 2 * i.boreDiameter;
    } else {
        i.ringDiameter = 2 * face->radius;
        i.end.kind = EndKind::blind;
    }
    propose(
        i, QString("%1 of Ø %2 mm%3.")
               .arg(face->kind == Kind::bore ? "Bore" : "Pin", num(2 * face->radius, roughness > 0 ? 3 : 5), residual));
}

void InterfacesPanel::proposeLines() {
    proposal_->places.clear();
    showFields(proposal_->kind);
    length_->setValue(3);
    if (face_->isChecked())
        toggleLine(clicked_);
    else
        say(proposal_->kind == Interface::Kind::edges ? "Type a place on the edge." : "Type the point.");
}

void InterfacesPanel::toggleLine(const Vec3& place) {
    auto& places = proposal_->places;
    const bool edges = proposal_->kind == Interface::Kind::edges;
    Vec3 at = place;
    shape::Lines same{{place}};
    double near = length_->value();
    if (edges) {
        const duty::BodySource* body = session_.project().part.bodyOfFaces();
        try {
            if (!body) throw InputError("Edges are those of an original.");
            duty::BodySource own = *body;
            own.offset = 0;
            same = {stages::edgeAt(own, place, 1e3)};
        } catch (const InputError& e) {
            say(e.detail().problem.c_str());
            return;
        }
        near = 1e-3;
        double least = std::numeric_limits<double>::infinity();  // onto the edge
        for (std::size_t k = 0; k + 1 < same[0].size(); ++k) {
            const Vec3 d = same[0][k + 1] - same[0][k];
            const Vec3 q = same[0][k] + std::clamp((place - same[0][k]).dot(d) / d.squaredNorm(), 0.0, 1.0) * d;
            if ((q - place).norm() >= least) continue;
            least = (q - place).norm();
            at = q;
        }
    }
    if (std::erase_if(places, [&](const Vec3& p) { return shape::distanceTo(same, p) <= near; }) == 0)
        places.push_back(at);
    if (!places.empty()) place_->setText(QString("%1, %2, %3").arg(num(at[0], 6), num(at[1], 6), num(at[2], 6)));
    const auto count = places.size();
    const QString what = edges ? count == 1 ? "edge" : "edges" : count == 1 ? "point" : "points";
    say(QString("%1 %2%3. Click more, or one again to leave it out.")
            .arg(count)
            .arg(what,
                 edges && count == 1 ? QString(", %1 mm long").arg(num(shape::lengthOf(same[0]), 4)) : QString()));
}

bool InterfacesPanel::pickKept(const Vec3& place) {
    const auto& part = session_.project().part;
    if (!part.bodyOfFaces()) return false;
    try {
        duty::BodySource body = *part.bodyOfFaces();
        body.offset = 0;
        if (!kept_) kept_.emplace(body);
        // triangles lie off round faces by as much as they are drawn with
        kept_->toggle(place, 0.15);
        if (kept_->empty()) kept_.reset();
        return kept_.has_value();
    } catch (const InputError&) {
        return false;
    }
}

void InterfacesPanel::showKept() {
    if (!kept_ || !proposal_) return;
    const double depth =
        proposal_->kind == Interface::Kind::faces && !proposal_->places.empty() ? length_->value() : keptDepth;
    const QString name = name_->text();
    const bool isOwnName = name_->isModified();
    propose(kept_->interface(depth),
            QString::fromStdString(kept_->describe()) + ". Click more faces, or one again to leave it out.");
    if (isOwnName) {
        name_->setText(name);
        name_->setModified(true);
    }
}

}  // namespace escultura::app
