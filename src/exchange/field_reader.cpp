#include "exchange/field_reader.hpp"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fstream>

#include "base/quantity.hpp"
#include "exchange/field_file.hpp"

namespace escultura::exchange {

void summarise(LoadedArray& array) {
    array.info.count = array.value.empty() ? array.info.count : array.value.size();
    bool any = false;
    for (float v : array.value) {
        if (!std::isfinite(v)) {
            ++array.info.notFinite;
            continue;
        }
        array.info.low = any ? std::min<double>(array.info.low, v) : v;
        array.info.high = any ? std::max<double>(array.info.high, v) : v;
        any = true;
    }
}

namespace {

LoadedField load(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    if (!in || std::filesystem::is_directory(path))
        refuseFile(path, "The density field cannot be opened.", {}, "a file with a density field",
                   "no readable file there");
    std::string start(4096, '\0');
    in.read(start.data(), static_cast<std::streamsize>(start.size()));
    start.resize(static_cast<std::size_t>(in.gcount()));
    in.close();
    if (start.rfind("\x93NUMPY", 0) == 0) return loadNumpy(path);
    if (start.rfind("# vtk DataFile", 0) == 0) return loadVtkLegacy(path);
    const auto xml = start.find("<VTKFile");
    if (xml != std::string::npos) {
        const std::string head = start.substr(xml, start.find('>', xml) - xml);
        if (head.find("UnstructuredGrid") != std::string::npos && head.find("PUnstructured") == std::string::npos)
            return loadVtkXml(path, true);
        if (head.find("ImageData") != std::string::npos && head.find("PImageData") == std::string::npos)
            return loadVtkXml(path, false);
        refuseFile(path, "The VTK file holds another kind of data.", "VTKFile type", "ImageData or UnstructuredGrid",
                   head.substr(0, 60));
    }
    if (start.find('\0') == std::string::npos && looksLikePointTable(start)) return loadPointTable(path);
    refuseFile(path, "The file is not a density field that can be read.", "first bytes",
               "VTK XML image data or unstructured grid, legacy VTK, a NumPy array, or a table of x, y, z, density",
               start.empty() ? "an empty file" : "something else");
}

LoadedArray& chooseArray(LoadedField& f, const FieldSource& source) {
    std::string there;
    LoadedArray* only = nullptr;
    int scalars = 0;
    for (LoadedArray& a : f.arrays) {
        there +=
            (there.empty() ? "" : ", ") + a.info.name + (a.info.on == ArrayInfo::On::cells ? " (cells)" : " (points)");
        if (a.info.components == 1) {
            ++scalars;
            only = &a;
        }
    }
    const std::string wanted = source.array.empty() ? "density" : source.array;
    for (LoadedArray& a : f.arrays)
        if (a.info.name == wanted) {
            if (a.info.components != 1)
                refuseFile(source.path, "The array is not a scalar.", "array '" + wanted + "'", "1 component",
                           std::to_string(a.info.components) + " components");
            return a;
        }
    // a NumPy array has no name; an unnamed choice takes the only scalar there is
    if (f.file.kind == FieldFile::Kind::array || (source.array.empty() && scalars == 1)) return *only;
    refuseFile(source.path, "The field has no array of that name.", "array '" + wanted + "'",
               "one of the arrays in the file", there.empty() ? "no arrays" : there);
}

/// Turns per cent or bytes to shares, and clamps, as the user has said.
void rescale(std::vector<float>& value, const FieldSource& source) {
    const float factor = source.scale == DensityScale::percent ? 0.01f
                         : source.scale == DensityScale::bytes ? 1 / 255.0f
                                                               : 1.0f;
    for (float& v : value) {
        v *= factor;
        if (source.clamp && std::isfinite(v)) v = std::clamp(v, 0.0f, 1.0f);
    }
}

std::vector<float> cellsFromGridPoints(const std::vector<float>& point, const std::array<int, 3>& cells) {
    std::vector<float> out;
    out.reserve(static_cast<std::size_t>(cells[0]) * cells[1] * cells[2]);
    const std::size_t nx = cells[0] + 1, ny = cells[1] + 1;
    for (int k = 0; k < cells[2]; ++k)
        for (int j = 0; j < cells[1]; ++j)
            for (int i = 0; i < cells[0]; ++i) {
                double sum = 0;
                for (int m = 0; m < 8; ++m)
                    sum += point[(i + (m & 1)) + nx * ((j + (m >> 1 & 1)) + ny * (k + (m >> 2)))];
                out.push_back(static_cast<float>(sum / 8));
            }
    return out;
}

}  // namespace

FieldFile inspectField(const std::string& path) {
    LoadedField f = load(path);
    for (LoadedArray& a : f.arrays) {
        summarise(a);
        f.file.arrays.push_back(a.info);
    }
    return f.file;
}

field::DensityField readField(const FieldSource& source, const std::optional<Box3>& cover, Progress& progress) {
    LoadedField f = load(source.path);
    progress.check();
    LoadedArray& array = chooseArray(f, source);
    rescale(array.value, source);
    const double unit = unitScale(source.lengthUnit);
    field::DensityField out;
    const std::string name = source.path + (f.file.kind == FieldFile::Kind::array ? "" : " (" + array.info.name + ")");
    // what the resampling cannot tell is asked of the values in the file
    for (std::size_t c = 0; c < array.value.size(); ++c)
        if (!std::isfinite(array.value[c]) && f.file.kind != FieldFile::Kind::array &&
            f.file.kind != FieldFile::Kind::grid)
            refuseFile(source.path, "The density field holds a value that is not a number.",
                       (array.info.on == ArrayInfo::On::cells ? "element " : "point ") + std::to_string(c),
                       "a density between 0 and 1", std::isnan(array.value[c]) ? "NaN" : "infinity");
    switch (f.file.kind) {
        case FieldFile::Kind::array:
            if (!source.spacing)
                refuseFile(source.path, "The NumPy array cannot be read.", "spacing",
                           "a cell size in the part file (field.spacing)", "none: a .npy file holds no lengths");
            out.cells = f.file.cells;
            out.origin = source.origin.value_or(Vec3::Zero());
            out.spacing = *source.spacing;
            out.density = std::move(array.value);
            break;
        case FieldFile::Kind::grid:
            out.cells = f.file.cells;
            out.origin = unit * f.origin;
            out.spacing = unit * f.spacing;
            out.density = array.info.on == ArrayInfo::On::cells ? std::move(array.value)
                                                                : cellsFromGridPoints(array.value, f.file.cells);
            break;
        case FieldFile::Kind::mesh: {
            for (Vec3& p : f.mesh.position) p *= unit;
            std::vector<float> density;
            if (array.info.on == ArrayInfo::On::cells) {
                density = std::move(array.value);
            } else {  // mean of the corners
                for (std::size_t e = 0; e < f.mesh.count(); ++e) {
                    const int corners = field::cornerCount(f.mesh.shape[e]);
                    double sum = 0;
                    for (int k = 0; k < corners; ++k) sum += array.value[f.mesh.node[f.mesh.first[e] + k]];
                    density.push_back(static_cast<float>(sum / corners));
                }
            }
            for (float v : density)
                if (v < -1e-6f || v > 1 + 1e-6f) {  // the same words as for a grid
                    field::DensityField probe;
                    probe.cells = {static_cast<int>(density.size() / 4 + 1), 2, 2};
                    probe.density = density;
                    probe.density.resize(static_cast<std::size_t>(probe.cells[0]) * 4, 0.0f);
                    probe.source = name;
                    field::validate(probe);
                }
            const Vec3 cell = source.cell ? Vec3::Constant(*source.cell) : field::typicalCell(f.mesh);
            if (!(cell.minCoeff() > 0))
                refuseFile(source.path, "The elements have no size.", "elements", "solid elements", "flat ones");
            out = field::rasterise(f.mesh, density, cell, cover, progress);
            break;
        }
        case FieldFile::Kind::points: {
            for (Vec3& p : f.points) p *= unit;
            try {
                out = field::gridOfPoints(f.points, array.value, source.cell, cover, progress);
            } catch (const InputError& e) {
                ErrorDetail d = e.detail();
                d.file = source.path;
                throw InputError(d);
            }
            break;
        }
    }
    out.source = name;
    field::validate(out);
    return out;
}

field::DensityField readField(const FieldSource& source) {
    Progress progress;
    return readField(source, {}, progress);
}

}  // namespace escultura::exchange
