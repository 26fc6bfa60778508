/// @file duty/part_node.hpp
/// Reading of part files: values that know the way to themselves. Internal to this folder.

#pragma once
#include <cmath>
#include <nlohmann/json.hpp>
#include <set>
#include <string>
#include <vector>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "duty/part.hpp"

namespace escultura::duty {

using nlohmann::json;

/// A value of the part file together with the way to it, for errors.
class Node {
  public:
    Node(const json& value, std::string place, const std::string& file)
        : value_(value), place_(std::move(place)), file_(file) {}

    [[noreturn]] void refuse(const std::string& expected, const std::string& found,
                             const std::string& problem = "The part file cannot be used.") const {
        throw InputError(ErrorDetail{problem, file_, place_.empty() ? "top level" : place_, expected,
                                     found.empty() ? "nothing" : found});
    }
    void onlyKeys(const std::set<std::string>& keys) const {
        if (!value_.is_object()) refuse("an object", value_.type_name());
        for (const auto& [key, unused] : value_.items())
            if (!keys.count(key)) {
                std::string all;
                for (const auto& k : keys) all += (all.empty() ? "" : ", ") + k;
                Node(value_, place_.empty() ? key : place_ + "." + key, file_)
                    .refuse("one of: " + all, "an unknown key '" + key + "'");
            }
    }
    bool has(const char* key) const { return value_.is_object() && value_.contains(key) && !value_[key].is_null(); }
    Node at(const char* key) const {
        if (!has(key)) Node(value_, child(key), file_).refuse("a value", "nothing");
        return {value_[key], child(key), file_};
    }
    std::vector<Node> list() const {
        if (!value_.is_array()) refuse("a list", value_.type_name());
        std::vector<Node> nodes;
        for (std::size_t i = 0; i < value_.size(); ++i)
            nodes.emplace_back(value_[i], place_ + "[" + std::to_string(i) + "]", file_);
        return nodes;
    }
    std::string text() const {
        if (!value_.is_string()) refuse("a text", value_.type_name());
        return value_.get<std::string>();
    }
    double quantity(Dimension wanted, const std::string& unit) const {
        auto sane = [&](double v) {  // squares and products of such numbers are still numbers
            if (!(std::abs(v) <= 1e18)) refuse("a number of at most 1e18", formatNumber(v));
            return v;
        };
        try {
            if (value_.is_number())
                return sane(wanted == dimension::none ? value_.get<double>() : value_.get<double>() * unitScale(unit));
            if (value_.is_string()) return sane(parseQuantity(value_.get<std::string>(), wanted, unit));
        } catch (const InputError& e) {
            refuse(e.detail().expected, e.detail().place + " " + e.detail().found);
        }
        refuse("a number, or a text with a unit", value_.type_name());
    }
    double positive(Dimension wanted, const std::string& unit) const {
        const double v = quantity(wanted, unit);
        if (!(v > 0) || !std::isfinite(v)) refuse("a value above zero", formatNumber(v));
        return v;
    }
    Vec3 vector(Dimension wanted, const std::string& unit) const {
        const auto parts = list();
        if (parts.size() != 3) refuse("three numbers", std::to_string(parts.size()));
        return {parts[0].quantity(wanted, unit), parts[1].quantity(wanted, unit), parts[2].quantity(wanted, unit)};
    }
    Vec3 direction() const {
        const Vec3 v = vector(dimension::none, "");
        if (!(v.norm() > 0) || !v.allFinite()) refuse("a direction that is not zero", "(0, 0, 0)");
        return v.normalized();
    }
    bool yes() const {
        if (!value_.is_boolean()) refuse("true or false", value_.type_name());
        return value_.get<bool>();
    }
    std::string oneOf(const std::vector<std::string>& choices) const {
        const std::string found = text();
        for (const auto& c : choices)
            if (c == found) return found;
        std::string all;
        for (std::size_t i = 0; i < choices.size(); ++i)
            all += (i == 0 ? "" : i + 1 < choices.size() ? ", " : " or ") + choices[i];
        refuse(all, "'" + found + "'");
    }
    bool isObject() const { return value_.is_object(); }
    bool isString() const { return value_.is_string(); }

  private:
    std::string child(const char* key) const { return place_.empty() ? key : place_ + "." + key; }
    const json& value_;
    std::string place_;
    const std::string& file_;
};

inline Units readUnits(const Node& root) {
    Units u;
    if (!root.has("units")) return u;
    const Node n = root.at("units");
    n.onlyKeys({"length", "force", "stress", "density", "mass"});
    auto read = [&](const char* key, std::string& unit, Dimension dim) {
        if (!n.has(key)) return;
        unit = n.at(key).text();
        try {
            parseQuantity("1 " + unit, dim, unit);
        } catch (const InputError&) {
            n.at(key).refuse("a unit of " + std::string(key), "'" + unit + "'");
        }
    };
    read("length", u.length, dimension::length);
    read("force", u.force, dimension::force);
    read("stress", u.stress, dimension::stress);
    read("density", u.density, dimension::density);
    read("mass", u.mass, dimension::mass);
    return u;
}

/// Interfaces and the face that something acts on. @throws InputError when there is no such face
FaceReference readFaces(const Node& n, const Part& part);
/// @throws InputError when it names an interface or a load case that the part does not have
Requirement readRequirement(const Node& n, const Units& u, const Part& part);
elastic::Material readMaterial(const Node& n, const Units& u);
/// Frames, supports, load cases, shared loads and combinations.
void readDuty(const Node& root, const Units& u, Part& part);

}  // namespace escultura::duty
