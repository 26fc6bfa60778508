#include "project/field_source.hpp"

#include <algorithm>

namespace escultura::project {

std::string digestOf(const field::DensityField& field) {
    Digest digest;
    for (int a = 0; a < 3; ++a)
        digest.add(static_cast<std::int64_t>(field.cells[a])).add(field.origin[a]).add(field.spacing[a]);
    return digest.add(std::span<const float>(field.density)).hex();
}

LoadedSource withDigest(field::DensityField field) {
    LoadedSource s;
    s.digest = digestOf(field);
    s.field = std::move(field);
    return s;
}

void addBodies(Digest& digest, const Part& part) {
    if (part.designBody) digest.add(fileState(part.designBody->path));
    for (const KeepOut& k : part.keepOuts)
        if (!k.body.path.empty()) digest.add(fileState(k.body.path));
    for (const Interface& i : part.interfaces)
        if (const BodySource* body = part.bodyOfFaces(); body && (i.kind == Interface::Kind::faces || i.isOfLines()))
            digest.add("faces of").add(body->path).add(body->lengthUnit).add(fileState(body->path));
}

std::string fieldKey(const Project& project, const Part& part, const Recipe& recipe) {
    Digest field;
    field.add("field").add(methodVersion).add(part.geometryText).add(part.numberProblem);
    addBodies(field, part);
    const FieldChoice& choice = recipe.field;
    if (choice.how == FieldChoice::How::made) {
        const auto made = project.made(recipe);
        return made ? field.add(made->digest).hex() : std::string();
    }
    if (choice.how == FieldChoice::How::one) {
        const auto s = project.source(static_cast<std::size_t>(std::max(choice.which, 0)));
        return s ? field.add(s->digest).hex() : std::string();
    }
    field.add(static_cast<std::int64_t>(choice.how));
    for (std::size_t f = 0; f < part.fields.size(); ++f) {
        const auto s = project.source(f);
        if (!s) return {};
        field.add(s->digest);
        if (choice.how == FieldChoice::How::weightedSum) field.add(f < choice.weights.size() ? choice.weights[f] : 1.0);
    }
    return field.hex();
}

void evaluateField(const Project& project, const Recipe& recipe, Progress& progress) {
    const Part& part = project.partOf(recipe);
    if (recipe.field.how == FieldChoice::How::made) {
        if (const auto made = project.made(recipe))
            project.results->store(project.keys(recipe).field, prepareField(part, made->field, progress));
        return;
    }
    std::vector<std::shared_ptr<const LoadedSource>> sources;
    std::vector<const field::DensityField*> fields;
    for (std::size_t f = 0; f < part.fields.size(); ++f) {
        auto s = project.source(f);
        if (!s)
            s = project.results->store(canonical(part.fields[f].source),
                                       withDigest(loadField(part, part.fields[f], progress)));
        sources.push_back(s);
        fields.push_back(&s->field);
    }
    FieldResult r = prepareField(part, chosenField(recipe.field, fields), progress);
    project.results->store(project.keys(recipe).field, std::move(r));
}

}  // namespace escultura::project
