#include "tips.hpp"

#include <QAbstractSpinBox>
#include <QCheckBox>
#include <QComboBox>
#include <QHash>
#include <QLineEdit>

namespace escultura::app {

namespace {

const char* const number =
    "A number of this load or support, in the unit beside it. Arithmetic and other units are understood, as in "
    "2*450 lbf. Goes to the part file and from there to the check.";
const char* const yes = "Whether this direction is meant. Goes to the part file and from there to the check.";

const QHash<QString, QString>& fields() {
    static const QHash<QString, QString> tips{
        // a field made here
        {"makingAim", "What is sought: the stiffest part of a given mass, or the lightest one that keeps its limits."},
        {"makingCases", "How the load cases count together: the sum of their compliances, or the worst of them."},
        {"makingSymmetric", "The density is the same on both sides of the part's symmetry planes."},
        {"makingRule",
         "How the part is to be made; the field keeps to it: a direction of draw, no overhangs, or none."},
        // field and surface
        {"largestOnly", "Pieces of the field that hang together with nothing are left out of the surface."},
        {"compareWith", "Another variant whose field is laid over this one: what only one of them has is coloured."},
        {"triangles",
         "How triangles are laid: by the chord error of what is curved, or all alike. More of them take "
         "longer and change no figure of the check, which has a mesh of its own."},
        {"edgeSide", "The side of the design space whose edge radius is typed beside it, mm."},
        {"addDraft",
         "Fills undercuts along the direction of draw, so that the part leaves its mould. Adds mass; the "
         "figures follow."},
        // rebuild and cage
        {"adaptCage", "Smaller faces where the cage cannot follow the surface within the tolerance."},
        {"cageElement", "What a click selects: points, edges or faces of the cage."},
        {"cageTool", "What is done with the selected part of the cage."},
        {"cageX", "Place along the first axis of the frame beside it, mm. Return moves what is selected."},
        {"cageY", "Place along the second axis, mm. Return moves what is selected."},
        {"cageZ", "Place along the third axis, mm. Return moves what is selected."},
        {"cageFrame", "Axes that the numbers are along."},
        {"cageSymmetric", "What is done on one side of a symmetry plane is done on the other as well."},
        {"cageShowDeviation", "Colours the cage's surface by its distance from the built surface, mm."},
        // check
        {"checkedBody", "What is checked: the surface with exact interfaces, the original, or the rebuilt solid."},
        {"level",
         "How much the check proves. 'look' is quick and never counts; 'converged' refines until the safety "
         "factor changes by less than the share beside it."},
        {"elementsThrough", "Least number of elements through a member; smaller ones are put where it is thin."},
        {"localPlace", "The interface, box or ball that gets elements of a size of its own, mm."},
        {"solver", "How the equations are solved: multigrid, a factorisation, or whichever is faster. Same result."},
        // findings and release
        {"decision", "What is done about the finding: accept it, fix it, or leave its place out."},
        {"dispositionReason", "Why, in words that a reviewer can follow. Goes to the report and the release."},
        {"dispositionName", "Who decides. Return signs; it holds until the finding changes."},
        {"releaseName", "Who releases the part. Goes to the report and the manifest."},
        {"releaseRole", "In which role. Goes to the report and the manifest."},
        {"releaseRemark", "What a reader of the release should know."},
        // studies and variants
        {"studyFigure", "The number that the study varies."},
        {"studyShown", "The figure of each evaluation that is drawn."},
        {"studyKind", "One number over a range, each number a little (what matters most), or a search for the best."},
        {"studyLow", "Where the range begins, in the number's unit."},
        {"studyHigh", "Where the range ends, in the number's unit."},
        {"studyCount", "How many evaluations; each is a surface and a check."},
        {"variantsQuantity", "The figure that is drawn over the variants."},
        {"compareAgainst", "The variant that the table compares the open one with."},
        // requirements
        {"requirementKind", "What has to hold. Goes to the part file; the strip below tells whether it does."},
        {"requirementLimit", "The limit, in the unit of its kind. Other units are understood, as in 0.5 in."},
        {"requirementCase", "The load case that it is about; none: the worst of all that are on."},
        {"requirementInterface", "The interface whose place or face it is about."},
        {"requirementDirection", "Along which the displacement counts; empty: its size."},
        {"requirementSource", "Where the limit comes from, such as a design note. Goes to the report."},
        {"factorByUse", "Proposes the upper end of what a trade commonly asks for, with its source."},
        {"requirementTemplates", "Requirements to start from; each can be changed."},
        // interfaces, loads, supports
        {"dutySet", "Supports of a set hold only in the load cases that name it; those without one hold in all."},
        {"newInterfaceName", "The name by which loads, supports and the report call the interface."},
        {"copyKind", "Copies about an axis, or the mirror image in a plane of symmetry."},
        {"dutyName", "The name of the load case. Goes to tables, results and report."},
        {"dutyKind", "What kind of load or support it is."},
        {"dutyFace", "The face of the interface that it acts on."},
        {"dutyFrame", "The frame that its directions are along; global unless one of the part's is chosen."},
        {"dutyCase", "The load case that the load belongs to."},
        {"dutyShare", "With several interfaces: whether the load is the total that they share, or acts on each."},
        {"caseUse", "Whether the case is checked by itself, only as part of combinations, or not at all."},
        {"caseFactor", "All loads of the case are multiplied by it."},
        {"combinationSum", "Cases with factors, as in 1.35 Steady pull + 1.5 Side sway. Linear: results are added."},
        {"combinationOn", "Whether the combination is checked."},
        {"finder", "Any action by some of its letters; Return does it. Ctrl+K comes here."}};
    return tips;
}

const QHash<QString, QString>& columns() {
    static const QHash<QString, QString> tips{
        {"Above 80 % of the peak, mm²", "Area of the surface around the peak where the stress is above 80 % of it."},
        {"Angle of the edge, °",
         "Angle between the faces beside the peak, measured on its finest mesh; 180 is smooth."},
        {"Radius of the notch, mm", "Radius of the hollow that the peak lies in, measured on its finest mesh."},
        {"Growth exponent", "How the peak grows as elements shrink: 0 not at all, larger as at sharp corners."},
        {"Aspect ratio", "Longest edge of the element over its smallest height, scaled so that a regular one has 1."},
        {"Scaled Jacobian",
         "Smallest over largest volume of the element's mapping; 1 undistorted, at most 0 unusable."},
        {"Smallest angle, °", "Smallest angle between two faces of the element."},
        {"Peak, MPa", "Highest judged stress there, of the load case beside it."},
        {"Peak", "Highest judged stress there, MPa."},
        {"Safety factor",
         "Strength of the material over the peak; the smaller of both estimates unless it was tested."},
        {"SF", "Smallest safety factor: strength over the largest stress that counts."},
        {"Displ., mm", "Largest displacement of the case, mm."},
        {"Displacement", "Largest displacement of the case, mm."},
        {"Displacement, mm", "Largest displacement, mm."},
        {"Load", "Size of the sum of the case's loads."},
        {"Class", "What the test found: real, singular, of a boundary, unresolved; or that it was not tested."},
        {"Disposition", "What was decided about it, by whom, and whether that still holds."},
        {"Nearest interface", "The interface closest to the place."},
        {"Distance, mm", "From the nearest interface's faces."},
        {"Grey share, %", "Share of the kept volume in cells between 10 and 90 % density: how undecided the field is."},
        {"Share of the design space, %", "Volume kept at the threshold over that of the design space."},
        {"In the field, mm", "Thickness of the member in the raw field."},
        {"In the surface, mm", "Thickness of the same member in the built surface."},
        {"Mass", "Volume times density of the material, kg."},
        {"Mass, kg", "Volume times density of the material."},
        {"Peak stress, MPa", "Largest judged von Mises stress of all cases."},
        {"Blend radius, mm", "Of the fillet between the interface's kept material and the free body."},
        {"Tool access, mm", "Depth of the space that is kept free before the interface's end."},
        {"Access diameter, mm", "Diameter of the space that is kept free before the interface's end."},
        {"Bore, mm", "Diameter of the interface's hole; exact in surface, mesh and solid."},
        {"Ring or pin, mm", "Outer diameter of the material that is kept around the hole, or of the pin."},
        {"Length, mm", "Of the interface along its axis."},
        {"Total force, kN", "Size of the sum of the case's forces."},
        {"Size, N", "Of the force: the root of the sum of its squares."},
        {"Limit", "What the requirement allows."},
        {"State", "Whether it holds, and what that rests on."},
        {"Value", "As it is now; out of date where the recipe has changed since."},
        {"Source", "Where the number comes from."}};
    return tips;
}

}  // namespace

QString tipOf(const QString& name) {
    if (const auto at = fields().find(name); at != fields().end()) return *at;
    if (const auto at = columns().find(name); at != columns().end()) return *at;
    if (name.startsWith("dutyFirst") || name.startsWith("dutySecond") || name.startsWith("dutyThird") ||
        name.startsWith("dutyFourth"))
        return name.endsWith("Yes") ? yes : number;
    return {};
}

void addTips(QWidget* root) {
    for (auto* w : root->findChildren<QWidget*>()) {
        if (!w->toolTip().isEmpty()) continue;
        const bool field = qobject_cast<QComboBox*>(w) || qobject_cast<QCheckBox*>(w) ||
                           qobject_cast<QAbstractSpinBox*>(w) || qobject_cast<QLineEdit*>(w);
        if (field) w->setToolTip(tipOf(w->objectName()));
    }
}

}  // namespace escultura::app
