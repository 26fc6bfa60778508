#include "exchange/read_3mf.hpp"

#include <expat.h>
#include <zip.h>

#include <Eigen/Geometry>
#include <charconv>
#include <cmath>
#include <cstring>
#include <exception>
#include <filesystem>
#include <map>
#include <memory>

#include "exchange/field_file.hpp"

namespace escultura::exchange {
namespace {

using surface::TriMesh;

constexpr std::size_t mostTriangles = 100000000;  // of all items together
constexpr zip_uint64_t mostBytes = 16ull << 30;
constexpr zip_uint64_t mostCompression = 200;  // text of a model is some five to twenty times as long as its package
constexpr int mostDepth = 32;                  // of components within each other
constexpr std::size_t mostPlaces = 1000000;    // of objects in items and components

struct Component {
    std::string object;
    Eigen::Affine3d place = Eigen::Affine3d::Identity();
    long line = 0;
};
struct Object {
    std::string name, type = "model";
    TriMesh mesh;
    std::vector<Component> components;
};

/// Takes one element of the model after another.
class Model {
  public:
    explicit Model(const std::string& path) : path_(path), parser_(XML_ParserCreate("UTF-8"), XML_ParserFree) {
        XML_SetUserData(parser_.get(), this);
        XML_SetElementHandler(
            parser_.get(),
            [](void* self, const XML_Char* name, const XML_Char** values) {
                static_cast<Model*>(self)->guarded(name, values);
            },
            [](void*, const XML_Char*) {});
    }
    void parse(const char* bytes, std::size_t size, bool last) {
        const bool good = XML_Parse(parser_.get(), bytes, static_cast<int>(size), last) == XML_STATUS_OK;
        if (thrown_) std::rethrow_exception(thrown_);  // not through the parser, which is C
        if (!good) refuse(line(), "well-formed XML", XML_ErrorString(XML_GetErrorCode(parser_.get())));
    }
    std::vector<NamedBody> bodies() {
        current_ = nullptr;
        std::vector<NamedBody> list;
        for (const Component& item : items_) {
            const Object& object = find(item.object, item.line);
            if (object.type == "support" || object.type == "other") continue;
            NamedBody b{object.name, {}};
            place(object, item.place, 0, item.line, b.mesh);
            if (!b.mesh.triangle.empty()) list.push_back(std::move(b));
        }
        return list;
    }

  private:
    long line() const { return static_cast<long>(XML_GetCurrentLineNumber(parser_.get())); }
    [[noreturn]] void refuse(long line, const std::string& expected, const std::string& found) const {
        const std::string object = current_ ? ", object " + lastId_ : "";
        refuseFile(path_, "The 3MF file cannot be read.", "line " + std::to_string(line) + " of its model" + object,
                   expected, found);
    }
    void guarded(const XML_Char* name, const XML_Char** values) {
        if (thrown_) return;
        try {
            const char* colon = std::strchr(name, ':');
            element(colon ? colon + 1 : name, values);
        } catch (...) {
            thrown_ = std::current_exception();
            XML_StopParser(parser_.get(), XML_FALSE);
        }
    }
    static const char* value(const XML_Char** values, const char* key) {
        for (; values[0]; values += 2)
            if (std::strcmp(values[0], key) == 0) return values[1];
        return nullptr;
    }
    template <class T>
    T number(const XML_Char** values, const char* key) const {
        const char* text = value(values, key);
        T v{};
        const char* end = text ? text + std::strlen(text) : nullptr;
        if (!text || std::from_chars(text, end, v).ptr != end || text == end)
            refuse(line(), std::string("a number '") + key + "'", text ? "'" + std::string(text) + "'" : "none");
        return v;
    }
    Eigen::Affine3d transform(const XML_Char** values) const {
        Eigen::Affine3d t = Eigen::Affine3d::Identity();
        const char* text = value(values, "transform");
        if (!text) return t;
        std::vector<double> m;
        for (const char *at = text, *end = text + std::strlen(text); at < end;) {
            if (std::isspace(static_cast<unsigned char>(*at))) {
                ++at;
                continue;
            }
            double v = 0;
            const auto [next, error] = std::from_chars(at, end, v);
            if (error != std::errc()) break;
            m.push_back(v);
            at = next;
        }
        if (m.size() != 12 || !Eigen::Map<Eigen::VectorXd>(m.data(), 12).allFinite())
            refuse(line(), "a transform of twelve numbers", "'" + std::string(text) + "'");
        for (int r = 0; r < 4; ++r)  // rows of the file act on row vectors
            for (int c = 0; c < 3; ++c)
                t.matrix()(c, r) = (r == 3 ? scale_ : 1) * m[static_cast<std::size_t>(3 * r + c)];
        if (!(std::abs(t.linear().determinant()) > 1e-30))
            refuse(line(), "a transform that keeps volume", "a flat one");
        return t;
    }
    Component component(const XML_Char** values) const {
        for (const XML_Char** v = values; v[0]; v += 2)  // whatever the extension's prefix is
            if (const char* colon = std::strchr(v[0], ':'); colon && std::strcmp(colon, ":path") == 0)
                refuse(line(), "objects within the package's one model", "an object in another file of the package");
        const char* id = value(values, "objectid");
        if (!id) refuse(line(), "an objectid", "none");
        return {id, transform(values), line()};
    }
    void element(const char* name, const XML_Char** values) {
        auto is = [&](const char* other) { return std::strcmp(name, other) == 0; };
        if (is("vertex") && current_) {
            const Vec3 p(number<double>(values, "x"), number<double>(values, "y"), number<double>(values, "z"));
            if (!p.allFinite() || p.cwiseAbs().maxCoeff() > 1e9) refuse(line(), "finite coordinates", "something else");
            current_->mesh.position.push_back(scale_ * p);
        } else if (is("triangle") && current_) {
            const Triangle t{number<std::int32_t>(values, "v1"), number<std::int32_t>(values, "v2"),
                             number<std::int32_t>(values, "v3")};
            for (const std::int32_t v : t)
                if (v < 0 || v >= static_cast<std::int32_t>(current_->mesh.position.size()))
                    refuse(line(), "vertices 0 to " + std::to_string(current_->mesh.position.size() - 1),
                           std::to_string(v));
            current_->mesh.triangle.push_back(t);
            current_->mesh.owner.push_back(0);
        } else if (is("component") && current_) {
            current_->components.push_back(component(values));
        } else if (is("object")) {
            const char* id = value(values, "id");
            if (!id) refuse(line(), "an id", "none");
            lastId_ = id;
            if (objects_.count(lastId_)) refuse(line(), "an id that is used once", "'" + lastId_ + "' again");
            current_ = &objects_[lastId_];
            if (const char* n = value(values, "name")) current_->name = n;
            if (const char* t = value(values, "type")) current_->type = t;
        } else if (is("item")) {
            current_ = nullptr;
            const char* printed = value(values, "printable");
            if (!printed || std::strcmp(printed, "0") != 0) items_.push_back(component(values));
        } else if (is("model")) {
            begin(values);
        }
    }
    void begin(const XML_Char** values) {
        static const std::map<std::string, double> units{{"micron", 0.001}, {"millimeter", 1}, {"centimeter", 10},
                                                         {"inch", 25.4},    {"foot", 304.8},   {"meter", 1000}};
        if (const char* unit = value(values, "unit")) {
            const auto at = units.find(unit);
            if (at == units.end())
                refuse(line(), "micron, millimeter, centimeter, inch, foot or meter", "'" + std::string(unit) + "'");
            scale_ = at->second;
        }
        if (const char* extensions = value(values, "requiredextensions"); extensions && *extensions)
            refuse(line(), "a model of the core specification alone",
                   "extensions that must be understood: " + std::string(extensions));
    }
    const Object& find(const std::string& id, long line) const {
        const auto at = objects_.find(id);
        if (at == objects_.end()) refuse(line, "an object of that id", "none of id '" + id + "'");
        return at->second;
    }
    void place(const Object& object, const Eigen::Affine3d& at, int depth, long line, TriMesh& into) {
        if (depth > mostDepth) refuse(line, "components that end", "an object within itself");
        triangles_ += object.mesh.triangle.size();
        if (++places_ > mostPlaces || triangles_ > mostTriangles)
            refuse(line,
                   "at most " + std::to_string(mostPlaces) + " objects in place and " + std::to_string(mostTriangles) +
                       " triangles",
                   "more");
        const auto first = static_cast<std::int32_t>(into.position.size());
        Eigen::Affine3d t = at;
        for (const Vec3& p : object.mesh.position) into.position.push_back(t * p);
        const bool mirrored = t.linear().determinant() < 0;
        for (Triangle v : object.mesh.triangle) {
            if (mirrored) std::swap(v[1], v[2]);
            into.triangle.push_back({first + v[0], first + v[1], first + v[2]});
            into.owner.push_back(0);
        }
        for (const Component& c : object.components) {
            place(find(c.object, c.line), at * c.place, depth + 1, c.line, into);
        }
    }

    std::string path_, lastId_;
    std::unique_ptr<std::remove_pointer_t<XML_Parser>, void (*)(XML_Parser)> parser_;
    std::exception_ptr thrown_;
    std::map<std::string, Object> objects_;
    Object* current_ = nullptr;
    std::vector<Component> items_;
    double scale_ = 1;
    std::size_t places_ = 0, triangles_ = 0;
};

/// Name of the package's model: by its relationships, else where it usually is.
std::string modelName(zip_t* archive) {
    std::string name = "3D/3dmodel.model";
    if (zip_file_t* file = zip_fopen(archive, "_rels/.rels", 0)) {
        std::string text(1 << 16, '\0');
        const auto size = zip_fread(file, text.data(), text.size());
        text.resize(size > 0 ? static_cast<std::size_t>(size) : 0);
        zip_fclose(file);
        const auto type = text.find("2013/01/3dmodel\"");
        const auto begin = type == std::string::npos ? type : text.rfind("<Relationship ", type);
        const auto end = begin == std::string::npos ? begin : text.find('>', begin);
        if (end != std::string::npos) {
            const std::string one = text.substr(begin, end - begin);
            const auto target = one.find("Target=\"");
            const auto close = target == std::string::npos ? target : one.find('"', target + 8);
            if (close != std::string::npos) name = one.substr(target + 8, close - target - 8);
        }
    }
    if (!name.empty() && name.front() == '/') name.erase(0, 1);
    return name;
}

}  // namespace

std::vector<NamedBody> read3mf(const std::string& path) {
    int code = 0;
    const std::unique_ptr<zip_t, void (*)(zip_t*)> archive(zip_open(path.c_str(), ZIP_RDONLY, &code), zip_discard);
    if (!archive) refuseFile(path, "The 3MF file cannot be read.", {}, "a ZIP package", "a damaged one");
    const std::string name = modelName(archive.get());
    zip_stat_t state{};
    if (zip_stat(archive.get(), name.c_str(), 0, &state) != 0)
        refuseFile(path, "The 3MF file cannot be read.", "package", "a model in it", "no '" + name + "'");
    if ((state.valid & ZIP_STAT_SIZE) && state.size > mostBytes)
        refuseFile(path, "The 3MF file cannot be read.", name, "a model of at most 16 GB",
                   std::to_string(state.size >> 30) + " GB");
    std::error_code failed;
    const auto whole = std::filesystem::file_size(path, failed);
    if ((state.valid & ZIP_STAT_SIZE) && !failed && state.size > mostCompression * whole + (1 << 20))
        refuseFile(path, "The 3MF file cannot be read.", name,
                   "a model at most " + std::to_string(mostCompression) + " times as long as its package",
                   std::to_string(state.size / std::max<zip_uint64_t>(whole, 1)) + " times");
    const std::unique_ptr<zip_file_t, int (*)(zip_file_t*)> file(zip_fopen(archive.get(), name.c_str(), 0), zip_fclose);
    if (!file) refuseFile(path, "The 3MF file cannot be read.", name, "a readable model", "a damaged or locked one");
    Model model(path);
    std::vector<char> bytes(1 << 20);
    for (;;) {
        const auto size = zip_fread(file.get(), bytes.data(), bytes.size());
        if (size < 0) refuseFile(path, "The 3MF file cannot be read.", name, "more of the model", "a damaged package");
        model.parse(bytes.data(), static_cast<std::size_t>(size), size == 0);
        if (size == 0) break;
    }
    return model.bodies();
}

}  // namespace escultura::exchange
