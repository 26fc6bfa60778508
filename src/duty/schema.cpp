#include "duty/schema.hpp"

#include <nlohmann/json.hpp>

#include "duty/load_kind.hpp"
#include "duty/support_kind.hpp"

namespace escultura::duty {
namespace {

using json = nlohmann::ordered_json;

/// What does not depend on the kinds of loads, supports and requirements.
constexpr const char* rest = R"schema({
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "Escultura part file, version 1",
  "type": "object",
  "additionalProperties": false,
  "required": [
    "format",
    "version",
    "name",
    "material",
    "interfaces",
    "supports",
    "load_cases",
    "requirements"
  ],
  "$defs": {
    "quantity": {
      "type": ["number", "string"],
      "description": "a number in the file's units, or a text with its own unit and arithmetic"
    },
    "vector": {"type": "array", "items": {"$ref": "#/$defs/quantity"}, "minItems": 3, "maxItems": 3},
    "direction": {"type": "array", "items": {"type": "number"}, "minItems": 3, "maxItems": 3},
    "end": {
      "type": "object",
      "additionalProperties": false,
      "required": ["kind"],
      "properties": {
        "kind": {"enum": ["flat", "blind", "through"]},
        "clearance": {"$ref": "#/$defs/quantity"},
        "clear_diameter": {"$ref": "#/$defs/quantity"},
        "clear_margin": {"$ref": "#/$defs/quantity"}
      }
    },
    "interfaceNames": {"type": "array", "items": {"type": "string"}, "minItems": 1},
    "face": {"enum": ["bore", "side", "start", "end", "face"]},
    "densityField": {
      "type": "object",
      "required": ["file"],
      "properties": {
        "name": {"type": "string"},
        "file": {"type": "string"},
        "array": {"type": "string"},
        "origin": {"$ref": "#/$defs/vector"},
        "spacing": {"$ref": "#/$defs/vector"},
        "cell_size": {"$ref": "#/$defs/quantity"},
        "unit": {"type": "string", "default": "mm"},
        "values": {"enum": ["share", "per cent", "bytes"]},
        "clamp": {"type": "boolean"}
      }
    },
    "body": {
      "type": "object",
      "required": ["body"],
      "properties": {
        "body": {"type": "string"},
        "unit": {"type": "string", "default": "mm"},
        "offset": {"$ref": "#/$defs/quantity"},
        "bodies": {"type": "array", "items": {"type": "string"}, "minItems": 1}
      }
    },
    "material": {
      "type": "object",
      "additionalProperties": false,
      "required": ["name", "density", "yield_source"],
      "properties": {
        "name": {"type": "string"},
        "youngs_modulus": {"$ref": "#/$defs/quantity"},
        "poissons_ratio": {"$ref": "#/$defs/quantity"},
        "density": {"$ref": "#/$defs/quantity"},
        "yield_strength": {"$ref": "#/$defs/quantity"},
        "ultimate_strength": {"$ref": "#/$defs/quantity"},
        "yield_source": {"type": "string"},
        "optimised_with": {"type": "string"},
        "rule": {"enum": ["ductile", "brittle"]},
        "orthotropic": {
          "type": "object",
          "additionalProperties": false,
          "required": [
            "youngs_moduli",
            "poissons_ratios",
            "shear_moduli"
          ],
          "properties": {
            "youngs_moduli": {
              "$ref": "#/$defs/vector"
            },
            "poissons_ratios": {
              "$ref": "#/$defs/vector"
            },
            "shear_moduli": {
              "$ref": "#/$defs/vector"
            },
            "angles": {"$ref": "#/$defs/vector"}
          }
        }
      },
      "anyOf": [
        {"required": ["youngs_modulus", "poissons_ratio"]},
        {"required": ["orthotropic"]}
      ]
    }
  },
  "properties": {
    "format": {"const": "escultura-part"},
    "version": {"const": 1},
    "name": {"type": "string"},
    "description": {"type": "string"},
    "units": {
      "type": "object",
      "additionalProperties": false,
      "properties": {
        "length": {"type": "string"},
        "force": {"type": "string"},
        "stress": {"type": "string"},
        "density": {"type": "string"},
        "mass": {"type": "string"}
      }
    },
    "material": {"$ref": "#/$defs/material"},
    "field": {
      "allOf": [{"$ref": "#/$defs/densityField"}],
      "unevaluatedProperties": false,
      "properties": {
        "threshold": {"$ref": "#/$defs/quantity"},
        "volume_fraction": {"$ref": "#/$defs/quantity"}
      }
    },
    "more_fields": {
      "type": "array",
      "items": {
        "allOf": [{"$ref": "#/$defs/densityField"}],
        "unevaluatedProperties": false
      }
    },
    "original": {"allOf": [{"$ref": "#/$defs/body"}], "unevaluatedProperties": false},
    "design_space": {
      "type": "object",
      "additionalProperties": false,
      "properties": {
        "low": {"$ref": "#/$defs/vector"},
        "high": {"$ref": "#/$defs/vector"},
        "body": {"type": "string"},
        "unit": {"type": "string"},
        "offset": {"$ref": "#/$defs/quantity"},
        "bodies": {"type": "array", "items": {"type": "string"}, "minItems": 1}
      },
      "anyOf": [{"required": ["low", "high"]}, {"required": ["body"]}]
    },
    "interfaces": {
      "type": "array",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["name", "kind"],
        "if": {"properties": {"kind": {"enum": ["edges", "points"]}}},
        "then": {"required": ["radius"]},
        "else": {"required": ["origin", "axis", "length"]},
        "properties": {
          "name": {"type": "string"},
          "kind": {"enum": ["bore", "boss", "pad", "pin", "faces", "edges", "points"]},
          "radius": {"$ref": "#/$defs/quantity"},
          "edges": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/vector"}},
          "points": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/vector"}},
          "origin": {"$ref": "#/$defs/vector"},
          "axis": {"$ref": "#/$defs/direction"},
          "length": {"$ref": "#/$defs/quantity"},
          "bore_diameter": {"$ref": "#/$defs/quantity"},
          "ring_diameter": {"$ref": "#/$defs/quantity"},
          "pin_diameter": {"$ref": "#/$defs/quantity"},
          "blend_radius": {"$ref": "#/$defs/quantity"},
          "outline": {
            "type": "array", "minItems": 1,
            "items": {"type": "array", "minItems": 3, "items": {"$ref": "#/$defs/vector"}}
          },
          "faces": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/vector"}},
          "clearance": {"$ref": "#/$defs/quantity"},
          "clear_margin": {"$ref": "#/$defs/quantity"},
          "start": {"$ref": "#/$defs/end"},
          "end": {"$ref": "#/$defs/end"}
        }
      }
    },
    "keep_outs": {
      "type": "array",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["name", "kind"],
        "properties": {
          "name": {"type": "string"},
          "kind": {"enum": ["box", "cylinder", "body"]},
          "low": {"$ref": "#/$defs/vector"},
          "high": {"$ref": "#/$defs/vector"},
          "origin": {"$ref": "#/$defs/vector"},
          "axis": {"$ref": "#/$defs/direction"},
          "length": {"$ref": "#/$defs/quantity"},
          "diameter": {"$ref": "#/$defs/quantity"},
          "body": {"type": "string"},
          "unit": {"type": "string"},
          "offset": {"$ref": "#/$defs/quantity"},
          "bodies": {"type": "array", "items": {"type": "string"}, "minItems": 1}
        }
      }
    },
    "symmetry": {
      "type": "array",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["point", "normal"],
        "properties": {
          "point": {"$ref": "#/$defs/vector"},
          "normal": {"$ref": "#/$defs/direction"}
        }
      }
    },
    "supports": {"type": "array", "items": {"$ref": "#/$defs/support"}},
    "load_cases": {
      "type": "array",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["name", "loads"],
        "properties": {
          "name": {"type": "string"},
          "on_supports": {"type": "boolean"},
          "support_set": {"type": "string", "minLength": 1},
          "use": {
            "enum": [
              "check",
              "combinations_only",
              "off"
            ]
          },
          "factor": {"$ref": "#/$defs/quantity"},
          "loads": {
            "type": "array",
            "items": {"$ref": "#/$defs/load"}
          }
        }
      }
    },
    "requirements": {"type": "array", "items": {"$ref": "#/$defs/requirement"}},
    "optimisation": {
      "type": "object",
      "additionalProperties": false,
      "properties": {
        "aim": {"enum": ["stiffest", "lightest"]},
        "cell_size": {"$ref": "#/$defs/quantity"},
        "share": {"$ref": "#/$defs/quantity"},
        "mass": {"$ref": "#/$defs/quantity"},
        "cases": {"enum": ["sum", "worst"]},
        "weights": {
          "type": "array",
          "items": {
            "type": "object",
            "additionalProperties": false,
            "required": ["case", "weight"],
            "properties": {"case": {"type": "string"}, "weight": {"$ref": "#/$defs/quantity"}}
          }
        },
        "safety_factor": {"$ref": "#/$defs/quantity"},
        "compliance": {"$ref": "#/$defs/quantity"},
        "filter_radius": {"$ref": "#/$defs/quantity"},
        "symmetric": {"type": "boolean"},
        "rules": {
          "type": "array",
          "items": {
            "type": "object",
            "additionalProperties": false,
            "required": ["kind", "direction"],
            "properties": {"kind": {"enum": ["overhang", "draw"]}, "direction": {"$ref": "#/$defs/direction"}}
          }
        },
        "steps": {"type": "integer", "minimum": 5, "maximum": 1000}
      }
    },
    "own_materials": {"type": "array", "items": {"$ref": "#/$defs/material"}},
    "frames": {
      "type": "array",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["name"],
        "properties": {
          "name": {"type": "string"},
          "origin": {"$ref": "#/$defs/vector"},
          "angles": {"$ref": "#/$defs/vector"},
          "points": {
            "type": "array",
            "items": {"$ref": "#/$defs/vector"},
            "minItems": 3,
            "maxItems": 3
          }
        }
      }
    },
    "shared_loads": {"type": "array", "items": {"$ref": "#/$defs/sharedLoad"}},
    "combinations": {
      "type": "array",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["name", "sum"],
        "properties": {
          "name": {"type": "string"},
          "sum": {"type": "string"},
          "on": {"type": "boolean"}
        }
      }
    }
  }
})schema";

json reference(const char* definition) {
    return {{"$ref", std::string("#/$defs/") + definition}};
}

template <class Owner>
json schemaOf(const Figure<Owner>& f) {
    if (f.isYes()) return {{"type", "boolean"}};
    if (f.rule == Figure<Owner>::Rule::direction) return reference("direction");
    return reference(f.isVector() ? "vector" : "quantity");
}

/// An object of one kind with its figures.
template <class Owner>
json kindSchema(const char* key, const std::vector<Figure<Owner>>& figures, bool onFaces) {
    json properties{{"kind", {{"const", key}}}}, required = json::array({"kind"});
    if (onFaces) {
        properties["interfaces"] = reference("interfaceNames");
        properties["face"] = reference("face");
        required.push_back("interfaces");
        required.push_back("face");
    }
    for (const Figure<Owner>& f : figures) {
        properties[f.key] = schemaOf(f);
        if (f.orMagnitude) {
            properties["magnitude"] = reference("quantity");
            properties["direction"] = reference("direction");
        }
        if (f.required) required.push_back(f.key);
    }
    return {{"type", "object"}, {"additionalProperties", false}, {"required", required}, {"properties", properties}};
}

json loadSchema(bool shared) {
    json kinds = json::array();
    for (const LoadKind& k : loadKinds()) {
        json one = kindSchema(k.key, k.figures, k.onFaces);
        json& properties = one["properties"];
        if (k.hasFrame) properties["frame"] = {{"type", "string"}};
        if (k.canShare) properties["share"] = {{"enum", {"total", "each"}}};
        if (shared) properties["cases"] = {{"type", "array"}, {"items", {{"type", "string"}}}};
        kinds.push_back(std::move(one));
    }
    return {{"oneOf", kinds}};
}

json supportSchema() {
    json kinds = json::array();
    for (const SupportKind& k : supportKinds()) {
        json one = kindSchema(k.key, k.figures, true);
        json& properties = one["properties"];
        properties["frame"] = {{"type", "string"}};
        properties["set"] = {{"type", "string"}, {"minLength", 1}};
        if (!k.motions.empty())
            properties[k.motionsKey] = {{"type", "array"}, {"items", {{"enum", k.motions}}}, {"minItems", 1}};
        kinds.push_back(std::move(one));
    }
    return {{"oneOf", kinds}};
}

json requirementSchema() {
    json kinds = json::array();
    for (const RequirementKind& k : requirementKinds()) {
        json properties{{"kind", {{"const", k.key}}}}, required = json::array({"kind"});
        properties["limit"] = reference("quantity");
        if (k.hasLimit) required.push_back("limit");
        for (const char* name : {"source", "load_case", "interface"}) properties[name] = {{"type", "string"}};
        if (k.hasDirection) properties["direction"] = reference("direction");
        kinds.push_back(
            {{"type", "object"}, {"additionalProperties", false}, {"required", required}, {"properties", properties}});
    }
    return {{"oneOf", kinds}};
}

}  // namespace

std::string partSchema() {
    json schema = json::parse(rest);
    json& definitions = schema["$defs"];
    definitions["load"] = loadSchema(false);
    definitions["sharedLoad"] = loadSchema(true);
    definitions["support"] = supportSchema();
    definitions["requirement"] = requirementSchema();
    return schema.dump(2) + "\n";
}

}  // namespace escultura::duty
