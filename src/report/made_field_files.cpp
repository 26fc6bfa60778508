#include "report/made_field_files.hpp"

#include <nlohmann/json.hpp>

#include "duty/strict_json.hpp"
#include "exchange/field_reader.hpp"
#include "exchange/writers.hpp"

namespace escultura::report {
using nlohmann::json;

void writeMadeField(const stages::MadeField& made, const std::string& folder) {
    exchange::writeField(folder + "/made-field.vti", made.field);
    json j{{"format", "escultura-made-field"},
           {"version", 1},
           {"task", made.task},
           {"source", made.field.source},
           {"digest", made.digest},
           {"cases", made.cases},
           {"compliance_N_mm", made.compliance},
           {"notes", made.notes},
           {"share", made.share},
           {"within_limits", made.within},
           {"seconds", made.seconds},
           {"steps", json::array()}};
    for (const optimise::Step& s : made.steps)
        j["steps"].push_back({{"number", s.number},
                              {"objective", s.objective},
                              {"share", s.share},
                              {"sharpness", s.sharpness},
                              {"change", s.change},
                              {"iterations", s.iterations},
                              {"limits", s.limits}});
    exchange::writeText(folder + "/made-field.json", j.dump(2) + "\n");
}

stages::MadeField readMadeField(const std::string& folder, Progress& progress) {
    const std::string path = folder + "/made-field.json";
    const json j = duty::parseStrictJson(duty::readWholeText(path, "The field's description cannot be opened."), path,
                                         "The field's description is not valid JSON.");
    stages::MadeField made;
    try {
        exchange::FieldSource source;
        source.path = folder + "/made-field.vti";
        made.field = exchange::readField(source, std::nullopt, progress);
        made.field.source = j.at("source");
        made.task = j.at("task");
        made.digest = j.at("digest");
        made.cases = j.at("cases").get<std::vector<std::string>>();
        made.compliance = j.at("compliance_N_mm").get<std::vector<double>>();
        made.notes = j.at("notes").get<std::vector<std::string>>();
        made.share = j.at("share");
        made.within = j.at("within_limits");
        made.seconds = j.at("seconds");
        for (const json& s : j.at("steps"))
            made.steps.push_back({s.at("number"), s.at("objective"), s.at("share"), s.at("sharpness"), s.at("change"),
                                  s.at("iterations"), s.at("limits").get<std::vector<double>>()});
    } catch (const json::exception& e) {
        throw InputError(ErrorDetail{"The field's description cannot be used.", path, {}, "all its keys", e.what()});
    }
    return made;
}

}  // namespace escultura::report
