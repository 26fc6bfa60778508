#include "exchange/body_files.hpp"

#include <zip.h>

#include <charconv>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"
#include "exchange/read_3mf.hpp"
#include "exchange/step_reader.hpp"
#include "exchange/vtk_data.hpp"
#include "exchange/writers.hpp"
#include "surface/mesh_body.hpp"
#include "surface/pieces.hpp"

namespace escultura::exchange {
namespace {

using surface::TriMesh;

/// Adds a polygon as a fan; indices may be given as seen in the file.
class Builder {
  public:
    Builder(const std::string& path, std::string format) : path_(path), format_(std::move(format)) {}
    [[noreturn]] void refuse(const std::string& place, const std::string& expected, const std::string& found) const {
        refuseFile(path_, "The " + format_ + " file cannot be read.", place, expected, found);
    }
    void vertex(const Vec3& p, const std::string& place) {
        if (!p.allFinite() || p.cwiseAbs().maxCoeff() > 1e9) refuse(place, "finite coordinates", "something else");
        mesh.position.push_back(p);
    }
    void polygon(const std::vector<long>& corner, const std::string& place) {
        if (corner.size() < 3) refuse(place, "at least three corners", std::to_string(corner.size()));
        for (long c : corner)
            if (c < 0 || c >= static_cast<long>(mesh.position.size()))
                refuse(place, "vertices 0 to " + std::to_string(mesh.position.size()), std::to_string(c));
        for (std::size_t k = 1; k + 1 < corner.size(); ++k) {
            mesh.triangle.push_back({static_cast<std::int32_t>(corner[0]), static_cast<std::int32_t>(corner[k]),
                                     static_cast<std::int32_t>(corner[k + 1])});
            mesh.owner.push_back(0);
        }
    }
    TriMesh mesh;

  private:
    const std::string& path_;
    std::string format_;
};

TriMesh readAsciiStl(const std::string& bytes, const std::string& path) {
    Builder b(path, "STL");
    std::istringstream in(bytes);
    long number = 0;
    std::vector<long> corner;
    for (std::string line; std::getline(in, line);) {
        ++number;
        std::istringstream words(line);
        std::string key;
        words >> key;
        const std::string place = "line " + std::to_string(number);
        if (key == "vertex") {
            Vec3 p;
            if (!(words >> p[0] >> p[1] >> p[2])) b.refuse(place, "three coordinates", line.substr(0, 60));
            corner.push_back(static_cast<long>(b.mesh.position.size()));
            b.vertex(p, place);
        } else if (key == "endfacet") {
            if (corner.size() != 3) b.refuse(place, "three vertices a facet", std::to_string(corner.size()));
            b.polygon(corner, place);
            corner.clear();
        }
    }
    if (!corner.empty()) b.refuse("end of the file", "endfacet", "nothing: the file is cut short");
    return std::move(b.mesh);
}

TriMesh readObj(const std::string& bytes, const std::string& path) {
    Builder b(path, "OBJ");
    std::istringstream in(bytes);
    long number = 0;
    for (std::string line; std::getline(in, line);) {
        ++number;
        std::istringstream words(line);
        std::string key;
        words >> key;
        const std::string place = "line " + std::to_string(number);
        if (key == "v") {
            Vec3 p;
            if (!(words >> p[0] >> p[1] >> p[2])) b.refuse(place, "three coordinates", line.substr(0, 60));
            b.vertex(p, place);
        } else if (key == "f") {
            std::vector<long> corner;
            for (std::string w; words >> w;) {
                const long i = std::strtol(w.c_str(), nullptr, 10);
                if (i == 0) b.refuse(place, "indices from 1, or negative ones", w);
                corner.push_back(i > 0 ? i - 1 : static_cast<long>(b.mesh.position.size()) + i);
            }
            b.polygon(corner, place);
        }
    }
    return std::move(b.mesh);
}

struct PlyProperty {
    std::string name, type, listType;
};
struct PlyElement {
    std::string name;
    std::size_t count = 0;
    std::vector<PlyProperty> properties;
};

std::size_t plySize(const std::string& t) {
    if (t == "char" || t == "uchar" || t == "int8" || t == "uint8") return 1;
    if (t == "short" || t == "ushort" || t == "int16" || t == "uint16") return 2;
    if (t == "int" || t == "uint" || t == "float" || t == "int32" || t == "uint32" || t == "float32") return 4;
    if (t == "double" || t == "float64") return 8;
    return 0;
}

/// Takes one number after another from a PLY file's data.
class PlyData {
  public:
    PlyData(const std::string& bytes, std::size_t at, int order, const Builder& b)
        : bytes_(bytes), at_(at), order_(order), b_(b) {}
    double next(const std::string& type) {
        if (order_ == 0) {
            while (at_ < bytes_.size() && std::isspace(static_cast<unsigned char>(bytes_[at_]))) ++at_;
            double v = 0;
            const auto [end, error] = std::from_chars(bytes_.data() + at_, bytes_.data() + bytes_.size(), v);
            if (error != std::errc())
                b_.refuse("data", "a number", at_ < bytes_.size() ? "something else" : "the end of the file");
            at_ = static_cast<std::size_t>(end - bytes_.data());
            return v;
        }
        const std::size_t size = plySize(type);
        if (size > bytes_.size() - at_) b_.refuse("data", "more numbers", "the end of the file");
        char raw[8];
        std::memcpy(raw, bytes_.data() + at_, size);
        if (order_ == 2) std::reverse(raw, raw + size);
        at_ += size;
        auto as = [&](auto v) {
            std::memcpy(&v, raw, sizeof v);
            return static_cast<double>(v);
        };
        if (type == "float" || type == "float32") return as(float());
        if (type == "double" || type == "float64") return as(double());
        if (size == 1) return type[0] == 'u' ? as(std::uint8_t()) : as(std::int8_t());
        if (size == 2) return type[0] == 'u' ? as(std::uint16_t()) : as(std::int16_t());
        return type[0] == 'u' ? as(std::uint32_t()) : as(std::int32_t());
    }

  private:
    const std::string& bytes_;
    std::size_t at_;
    int order_;
    const Builder& b_;
};

TriMesh readPly(const std::string& bytes, const std::string& path) {
    Builder b(path, "PLY");
    const auto end = bytes.find("end_header");
    const auto start = end == std::string::npos ? end : bytes.find('\n', end);
    if (start == std::string::npos) b.refuse("header", "end_header", "the end of the file");
    std::istringstream head(bytes.substr(0, end));
    int order = -1;
    std::vector<PlyElement> elements;
    for (std::string line; std::getline(head, line);) {
        std::istringstream words(line);
        std::string key;
        words >> key;
        if (key == "format") {
            std::string f;
            words >> f;
            order = f == "ascii" ? 0 : f == "binary_little_endian" ? 1 : f == "binary_big_endian" ? 2 : -1;
        } else if (key == "element") {
            PlyElement e;
            double n = 0;
            words >> e.name >> n;
            if (!(n >= 0) || n > static_cast<double>(bytes.size()))
                b.refuse("element " + e.name, "a count that the file can hold", std::to_string(n));
            e.count = static_cast<std::size_t>(n);
            elements.push_back(e);
        } else if (key == "property" && !elements.empty()) {
            PlyProperty p;
            words >> p.type;
            if (p.type == "list") words >> p.listType >> p.type;
            words >> p.name;
            if (plySize(p.type) == 0 || (!p.listType.empty() && plySize(p.listType) == 0))
                b.refuse("property " + p.name, "a number type", p.type);
            elements.back().properties.push_back(p);
        }
    }
    if (order < 0) b.refuse("format", "ascii, binary_little_endian or binary_big_endian", "something else");
    PlyData data(bytes, start + 1, order, b);
    for (const PlyElement& e : elements)
        for (std::size_t i = 0; i < e.count; ++i) {
            Vec3 p = Vec3::Zero();
            const std::string place = e.name + " " + std::to_string(i);
            for (const PlyProperty& q : e.properties) {
                if (q.listType.empty()) {
                    const double v = data.next(q.type);
                    if (e.name == "vertex" && q.name.size() == 1 && q.name[0] >= 'x' && q.name[0] <= 'z')
                        p[q.name[0] - 'x'] = v;
                    continue;
                }
                const double n = data.next(q.listType);
                if (!(n >= 0 && n < 1000)) b.refuse(place, "a list of at most 1000", std::to_string(n));
                std::vector<long> corner;
                for (int k = 0; k < static_cast<int>(n); ++k) corner.push_back(static_cast<long>(data.next(q.type)));
                if (e.name == "face" && q.name.rfind("vertex_ind", 0) == 0) b.polygon(corner, place);
            }
            if (e.name == "vertex") b.vertex(p, place);
        }
    return std::move(b.mesh);
}

void writeBytes(const std::string& path, const std::string& bytes) {
    writeText(path, bytes);
}

std::string number(double v) {
    char text[40];
    const auto end = std::to_chars(text, text + sizeof text, v).ptr;
    return {text, end};
}

std::string model3mf(const TriMesh& mesh, const BodyText& text) {
    std::string xml =
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
        "<model unit=\"millimeter\" xml:lang=\"en-US\" "
        "xmlns=\"http://schemas.microsoft.com/3dmanufacturing/core/2015/02\">\n"
        " <metadata name=\"Title\">" +
        escapedMarkup(text.title) +
        "</metadata>\n <metadata name=\"Application\">Escultura</metadata>\n"
        " <resources>\n  <object id=\"1\" type=\"model\" name=\"" +
        escapedMarkup(text.title) + "\">\n   <mesh>\n    <vertices>\n";
    for (const Vec3& p : mesh.position)
        xml += "     <vertex x=\"" + number(p[0]) + "\" y=\"" + number(p[1]) + "\" z=\"" + number(p[2]) + "\"/>\n";
    xml += "    </vertices>\n    <triangles>\n";
    for (const Triangle& t : mesh.triangle)
        xml += "     <triangle v1=\"" + std::to_string(t[0]) + "\" v2=\"" + std::to_string(t[1]) + "\" v3=\"" +
               std::to_string(t[2]) + "\"/>\n";
    return xml +
           "    </triangles>\n   </mesh>\n  </object>\n </resources>\n <build>\n  <item objectid=\"1\"/>\n "
           "</build>\n</model>\n";
}

}  // namespace

namespace {

enum class Format { stl, asciiStl, step, ply, obj, package };

Format formatOf(const std::string& path, const std::string& bytes) {
    const std::string start = bytes.substr(0, 4096);
    auto hasLine = [&](const char* key) {
        return start.rfind(key, 0) == 0 || start.find(std::string("\n") + key) != std::string::npos;
    };
    std::uint32_t count = 0;
    if (bytes.size() >= 84) std::memcpy(&count, &bytes[80], 4);
    if (bytes.size() >= 84 && bytes.size() == 84 + 50ull * count) return Format::stl;
    if (start.rfind("PK\x03\x04", 0) == 0) return Format::package;
    if (isStep(start)) return Format::step;
    if (start.rfind("ply", 0) == 0) return Format::ply;
    if (start.rfind("solid", 0) == 0 && start.find("facet") != std::string::npos) return Format::asciiStl;
    if (hasLine("v ") || hasLine("f ")) return Format::obj;
    refuseFile(path, "The file is not a body that can be read.", "first bytes", "STL, OBJ, PLY, 3MF or STEP",
               bytes.empty() ? "an empty file" : "something else, or a binary STL that is cut short");
}

/// Everything in the file, not welded; packages and STEP files as their bodies.
std::vector<NamedBody> readAll(const std::string& path, const std::string& lengthUnit) {
    std::ifstream probe(path, std::ios::binary);
    if (!probe || std::filesystem::is_directory(path))
        refuseFile(path, "The body cannot be opened.", {}, "an STL, OBJ, PLY, 3MF or STEP file",
                   "no readable file there");
    probe.close();
    const std::string bytes = readBytes(path);
    const Format format = formatOf(path, bytes);
    std::vector<NamedBody> all;
    double unit = unitScale(lengthUnit);
    if (format == Format::package || format == Format::step) {
        all = format == Format::step ? readStep(path) : read3mf(path);
        unit = 1;
    } else {
        all.push_back({"", format == Format::stl        ? readStl(path)
                           : format == Format::asciiStl ? readAsciiStl(bytes, path)
                           : format == Format::ply      ? readPly(bytes, path)
                                                        : readObj(bytes, path)});
    }
    std::size_t triangles = 0;
    for (NamedBody& b : all) {
        triangles += b.mesh.triangle.size();
        for (Vec3& p : b.mesh.position) {
            p *= unit;
            if (!p.allFinite()) refuseFile(path, "A vertex lies nowhere.", "vertices", "finite coordinates", "NaN");
        }
    }
    if (triangles == 0) refuseFile(path, "The file holds no surface.", "triangles", "at least four", "none");
    return all;
}

}  // namespace

bool statesUnit(const std::string& path) {
    std::string ending = std::filesystem::path(path).extension().string();
    for (char& c : ending) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    return ending == ".step" || ending == ".stp" || ending == ".3mf";
}

std::vector<NamedBody> readBodies(const std::string& path, const std::string& lengthUnit) {
    std::vector<NamedBody> all = readAll(path, lengthUnit);
    if (all.size() == 1 && all.front().name.empty()) {
        std::vector<TriMesh> pieces = surface::piecesOf(surface::weld(all.front().mesh));
        all.clear();
        for (TriMesh& piece : pieces) all.push_back({"", std::move(piece)});
    } else {
        for (NamedBody& b : all) b.mesh = surface::weld(b.mesh);
    }
    std::vector<std::string> names;
    for (const NamedBody& b : all) names.push_back(b.name);
    names = ownNames(std::move(names));
    for (std::size_t k = 0; k < all.size(); ++k) all[k].name = names[k];
    return all;
}

TriMesh readBody(const std::string& path, const std::string& lengthUnit, const std::vector<std::string>& bodies) {
    std::vector<NamedBody> all = bodies.empty() ? readAll(path, lengthUnit) : readBodies(path, lengthUnit);
    for (const std::string& name : bodies)
        if (std::none_of(all.begin(), all.end(), [&](const NamedBody& b) { return b.name == name; })) {
            std::string known;
            for (const NamedBody& b : all) known += (known.empty() ? "" : ", ") + b.name;
            refuseFile(path, "The file has no such body.", "bodies", "one of: " + known, "'" + name + "'");
        }
    TriMesh mesh;
    for (const NamedBody& b : all) {
        if (!bodies.empty() && !std::count(bodies.begin(), bodies.end(), b.name)) continue;
        const auto first = static_cast<std::int32_t>(mesh.position.size());
        mesh.position.insert(mesh.position.end(), b.mesh.position.begin(), b.mesh.position.end());
        for (const Triangle& t : b.mesh.triangle) mesh.triangle.push_back({first + t[0], first + t[1], first + t[2]});
        mesh.owner.insert(mesh.owner.end(), b.mesh.owner.begin(), b.mesh.owner.end());
    }
    return surface::weld(mesh);
}

void writeObj(const std::string& path, const TriMesh& mesh, const BodyText& text) {
    std::string out = "# " + text.title + "\n# unit: mm\no part\n";
    for (const Vec3& p : mesh.position) out += "v " + number(p[0]) + " " + number(p[1]) + " " + number(p[2]) + "\n";
    std::vector<std::size_t> order(mesh.triangle.size());
    for (std::size_t t = 0; t < order.size(); ++t) order[t] = t;
    auto owner = [&](std::size_t t) { return mesh.owner.empty() ? 0 : mesh.owner[t]; };
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return owner(a) < owner(b); });
    int group = -1;
    for (std::size_t t : order) {
        if (owner(t) != group) {
            group = owner(t);
            std::string name = group < static_cast<int>(text.owners.size()) ? text.owners[group] : "";
            if (name.empty()) name = group == 0 ? "free" : "machined " + std::to_string(group);
            for (char& c : name)
                if (c == ' ') c = '_';
            out += "g " + name + "\n";
        }
        const Triangle& v = mesh.triangle[t];
        out += "f " + std::to_string(v[0] + 1) + " " + std::to_string(v[1] + 1) + " " + std::to_string(v[2] + 1) + "\n";
    }
    writeBytes(path, out);
}

void writePly(const std::string& path, const TriMesh& mesh, const BodyText& text) {
    std::string out = "ply\nformat binary_little_endian 1.0\ncomment " + text.title +
                      "\ncomment unit: mm\nelement vertex " + std::to_string(mesh.position.size()) +
                      "\nproperty double x\nproperty double y\nproperty double z\nelement face " +
                      std::to_string(mesh.triangle.size()) +
                      "\nproperty list uchar int vertex_indices\nproperty short owner\nend_header\n";
    for (const Vec3& p : mesh.position) out.append(reinterpret_cast<const char*>(p.data()), 24);
    for (std::size_t t = 0; t < mesh.triangle.size(); ++t) {
        out += static_cast<char>(3);
        out.append(reinterpret_cast<const char*>(mesh.triangle[t].data()), 12);
        const std::int16_t owner = mesh.owner.empty() ? std::int16_t(0) : mesh.owner[t];
        out.append(reinterpret_cast<const char*>(&owner), 2);
    }
    writeBytes(path, out);
}

void write3mf(const std::string& path, const TriMesh& mesh, const BodyText& text) {
    const std::array<std::pair<const char*, std::string>, 3> parts{{
        {"[Content_Types].xml",
         "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Types "
         "xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"><Default Extension=\"rels\" "
         "ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Default Extension=\"model\" "
         "ContentType=\"application/vnd.ms-package.3dmanufacturing-3dmodel+xml\"/></Types>\n"},
        {"_rels/.rels",
         "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Relationships "
         "xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship "
         "Target=\"/3D/3dmodel.model\" Id=\"rel0\" "
         "Type=\"http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel\"/></Relationships>\n"},
        {"3D/3dmodel.model", model3mf(mesh, text)},
    }};
    replaceFile(path, [&](const std::string& temporary) {
        auto fail = [&] {
            throw InputError(ErrorDetail{"The file cannot be written.",
                                         path,
                                         {},
                                         "a folder that can be written, with "
                                         "space left",
                                         "the write failed"});
        };
        int code = 0;
        zip_t* archive = zip_open(temporary.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &code);
        if (!archive) fail();
        bool good = true;
        for (const auto& [name, content] : parts) {
            zip_source_t* source = zip_source_buffer(archive, content.data(), content.size(), 0);
            const auto index = zip_file_add(archive, name, source, ZIP_FL_ENC_UTF_8);
            if (index < 0) {
                zip_source_free(source);
                good = false;
                continue;
            }
            zip_file_set_mtime(archive, static_cast<zip_uint64_t>(index), 315532800, 0);  // the same bytes every time
        }
        if (!good || zip_close(archive) != 0) {
            zip_discard(archive);
            fail();
        }
    });
}

void writeBody(const std::string& path, const TriMesh& mesh, const BodyText& text) {
    std::string ending = std::filesystem::path(path).extension().string();
    for (char& c : ending) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    if (ending == ".stl")
        writeStl(path, mesh, text.title);
    else if (ending == ".obj")
        writeObj(path, mesh, text);
    else if (ending == ".ply")
        writePly(path, mesh, text);
    else if (ending == ".3mf")
        write3mf(path, mesh, text);
    else
        throw InputError(ErrorDetail{"The surface cannot be written in this format.", path, "ending",
                                     ".stl, .obj, .ply or .3mf", ending});
}

}  // namespace escultura::exchange
