/// Legacy VTK files (.vtk), ascii and binary, versions 2 to 5, after the published file format.

#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>

#include "exchange/vtk_data.hpp"

namespace escultura::exchange {
namespace {

/// Binary numbers are big-endian.
template <class T>
double bigEndian(const char* p) {
    return numberAt<T>(p, std::endian::native == std::endian::little);
}

struct NumberType {
    const char* name;
    std::size_t size;
    double (*read)(const char*);
};
constexpr NumberType numberTypes[] = {
    {"float", 4, bigEndian<float>},
    {"double", 8, bigEndian<double>},
    {"char", 1, bigEndian<std::int8_t>},
    {"unsigned_char", 1, bigEndian<std::uint8_t>},
    {"short", 2, bigEndian<std::int16_t>},
    {"unsigned_short", 2, bigEndian<std::uint16_t>},
    {"int", 4, bigEndian<std::int32_t>},
    {"unsigned_int", 4, bigEndian<std::uint32_t>},
    {"long", 8, bigEndian<std::int64_t>},
    {"unsigned_long", 8, bigEndian<std::uint64_t>},
    {"vtktypeint64", 8, bigEndian<std::int64_t>},
    {"vtkIdType", 8, bigEndian<std::int64_t>},
};

class LegacyReader {
  public:
    LegacyReader(const std::string& bytes, const std::string& path) : bytes_(bytes), path_(path) {}

    VtkGrid read() {
        line();  // # vtk DataFile Version
        line();  // title
        const std::string mode = word();
        if (mode != "ASCII" && mode != "BINARY") refuse("ASCII or BINARY", mode);
        binary_ = mode == "BINARY";
        for (std::string key = word(); !key.empty(); key = word()) section(key);
        return std::move(grid_);
    }

  private:
    [[noreturn]] void refuse(const std::string& expected, const std::string& found) const {
        const auto n =
            1 + std::count(bytes_.begin(), bytes_.begin() + static_cast<long>(std::min(at_, bytes_.size())), '\n');
        refuseFile(path_, "The legacy VTK file cannot be read.",
                   binary_ ? "byte " + std::to_string(at_) : "line " + std::to_string(n), expected,
                   found.empty() ? "the end of the file" : "'" + found.substr(0, 40) + "'");
    }
    void line() {
        const auto end = bytes_.find('\n', at_);
        at_ = end == std::string::npos ? bytes_.size() : end + 1;
    }
    std::string word() {
        while (at_ < bytes_.size() && std::isspace(static_cast<unsigned char>(bytes_[at_]))) ++at_;
        const std::size_t begin = at_;
        while (at_ < bytes_.size() && !std::isspace(static_cast<unsigned char>(bytes_[at_])) && at_ - begin < 200)
            ++at_;
        return bytes_.substr(begin, at_ - begin);
    }
    /// The next word of this line; empty at its end.
    std::string wordOfLine() {
        while (at_ < bytes_.size() && (bytes_[at_] == ' ' || bytes_[at_] == '\t' || bytes_[at_] == '\r')) ++at_;
        return at_ < bytes_.size() && bytes_[at_] != '\n' ? word() : std::string();
    }
    double number() {
        const std::string text = word();
        double v = 0;
        const auto [end, error] = std::from_chars(text.data() + (text[0] == '+'), text.data() + text.size(), v);
        if (error != std::errc() || end != text.data() + text.size()) refuse("a number", text);
        return v;
    }
    std::size_t count() {
        const double v = number();
        // two bytes a value in text, one in binary
        if (!(v >= 0) || v != std::floor(v) || v > static_cast<double>(bytes_.size()))
            refuse("a count that the file can hold", std::to_string(v));
        return static_cast<std::size_t>(v);
    }
    std::vector<double> values(std::size_t n, const std::string& typeName) {
        const NumberType* type = nullptr;
        for (const NumberType& t : numberTypes)
            if (typeName == t.name) type = &t;
        if (!type) refuse("a number type", typeName);
        std::vector<double> v;
        if (n > bytes_.size()) refuse("values that the file can hold", std::to_string(n));
        v.reserve(n);
        if (!binary_) {
            for (std::size_t i = 0; i < n; ++i) v.push_back(number());
            return v;
        }
        line();
        if (at_ > bytes_.size() || n * type->size > bytes_.size() - at_)
            refuse(std::to_string(n * type->size) + " bytes", "");
        for (std::size_t i = 0; i < n; ++i, at_ += type->size) v.push_back(type->read(bytes_.data() + at_));
        return v;
    }
    static std::vector<std::int64_t> integers(const std::vector<double>& v) {
        std::vector<std::int64_t> out;
        for (double x : v) out.push_back(std::abs(x) < 1e15 ? static_cast<std::int64_t>(x) : -1);
        return out;
    }

    void section(const std::string& key) {
        if (key == "DATASET") {
            const std::string kind = word();
            if (kind != "STRUCTURED_POINTS" && kind != "UNSTRUCTURED_GRID")
                refuse("DATASET STRUCTURED_POINTS or UNSTRUCTURED_GRID", kind);
            grid_.isImage = kind == "STRUCTURED_POINTS";
        } else if (key == "DIMENSIONS") {
            double cells = 1;
            for (int a = 0; a < 3; ++a) {
                grid_.cells[a] = static_cast<int>(count()) - 1;
                cells *= std::max(grid_.cells[a], 0);
            }
            if (cells > static_cast<double>(bytes_.size())) refuse("a grid that the file can hold", "a larger one");
        } else if (key == "ORIGIN") {
            for (int a = 0; a < 3; ++a) grid_.origin[a] = number();
        } else if (key == "SPACING" || key == "ASPECT_RATIO") {
            for (int a = 0; a < 3; ++a) grid_.spacing[a] = number();
        } else if (key == "POINTS") {
            const std::size_t n = count();
            grid_.points = values(3 * n, word());
        } else if (key == "CELLS") {
            cells();
        } else if (key == "CELL_TYPES") {
            grid_.types = integers(values(count(), "int"));
        } else if (key == "CELL_DATA") {
            attributes_ = &grid_.cellArrays;
            tuples_ = count();
        } else if (key == "POINT_DATA") {
            attributes_ = &grid_.pointArrays;
            tuples_ = count();
        } else if (key == "SCALARS") {
            const std::string name = word(), type = word(), components = wordOfLine();
            int n = 1;
            if (!components.empty()) n = std::clamp(std::atoi(components.c_str()), 1, 9);
            const std::size_t before = at_;
            if (word() == "LOOKUP_TABLE")
                word();
            else
                at_ = before;
            add(name, n, values(tuples_ * static_cast<std::size_t>(n), type));
        } else if (key == "VECTORS" || key == "NORMALS" || key == "TENSORS") {
            const std::string name = word(), type = word();
            const int n = key == "TENSORS" ? 9 : 3;
            add(name, n, values(tuples_ * static_cast<std::size_t>(n), type));
        } else if (key == "FIELD") {
            word();
            const std::size_t arrays = count();
            for (std::size_t i = 0; i < arrays; ++i) {
                const std::string name = word();
                if (name == "METADATA") {
                    metadata();
                    --i;
                    continue;
                }
                const std::size_t components = count(), tuples = count();
                if (components < 1 || components > 100) refuse("1 to 100 components", std::to_string(components));
                auto v = values(components * tuples, word());
                if (attributes_ && tuples == tuples_) add(name, static_cast<int>(components), std::move(v));
            }
        } else if (key == "LOOKUP_TABLE") {
            word();
            const std::size_t n = count();
            values(4 * n, binary_ ? "unsigned_char" : "float");
        } else if (key == "METADATA") {
            metadata();
        } else {
            refuse("a section of a legacy VTK file", key);
        }
    }
    void metadata() {  // ends at an empty line
        const auto end = bytes_.find("\n\n", at_);
        at_ = end == std::string::npos ? bytes_.size() : end + 2;
    }
    void cells() {
        const std::size_t n = count(), size = count();
        const std::size_t before = at_;
        if (word() == "OFFSETS") {  // version 5: n is one more than the number of elements
            grid_.offsets = integers(values(n, word()));
            if (!grid_.offsets.empty()) grid_.offsets.erase(grid_.offsets.begin());
            if (word() != "CONNECTIVITY") refuse("CONNECTIVITY", "something else");
            grid_.connectivity = integers(values(size, word()));
            return;
        }
        at_ = before;
        const auto list = integers(values(size, "int"));
        for (std::size_t e = 0, i = 0; e < n; ++e) {
            if (i >= list.size() || list[i] < 0 || list[i] > static_cast<std::int64_t>(list.size() - i - 1))
                refuse("nodes of element " + std::to_string(e), "a list that ends early");
            for (std::int64_t k = 0; k < list[i]; ++k) grid_.connectivity.push_back(list[i + 1 + k]);
            i += 1 + static_cast<std::size_t>(list[i]);
            grid_.offsets.push_back(static_cast<std::int64_t>(grid_.connectivity.size()));
        }
    }
    void add(const std::string& name, int components, std::vector<double> v) {
        if (!attributes_) refuse("CELL_DATA or POINT_DATA before an array", name);
        attributes_->push_back({name, components, std::move(v)});
    }

    const std::string& bytes_;
    const std::string& path_;
    std::size_t at_ = 0, tuples_ = 0;
    bool binary_ = false;
    VtkGrid grid_;
    std::vector<VtkArray>* attributes_ = nullptr;
};

}  // namespace

LoadedField loadVtkLegacy(const std::string& path) {
    const std::string bytes = readBytes(path);
    const VtkGrid grid = LegacyReader(bytes, path).read();
    if (!grid.isImage && grid.types.empty())
        refuseFile(path, "The legacy VTK file holds no mesh.", "CELL_TYPES", "elements", "none");
    return loadVtkGrid(grid, path, grid.isImage ? "legacy VTK structured points" : "legacy VTK unstructured grid");
}

}  // namespace escultura::exchange
