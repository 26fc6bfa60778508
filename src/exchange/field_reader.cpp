#include "exchange/field_reader.hpp"

#include <vtkCellData.h>
#include <vtkCommand.h>
#include <vtkDataArray.h>
#include <vtkExecutive.h>
#include <vtkImageData.h>
#include <vtkInformation.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkStreamingDemandDrivenPipeline.h>
#include <vtkXMLImageDataReader.h>

#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "base/error.hpp"

namespace escultura::exchange {
namespace {

/// Collects what VTK reports instead of printing it.
class ErrorCollector : public vtkCommand {
  public:
    static ErrorCollector* New() { return new ErrorCollector; }
    void Execute(vtkObject*, unsigned long, void* data) override {
        if (!text.empty()) return;
        text = data ? static_cast<const char*>(data) : "unknown";
        const auto colon = text.find("): ");
        if (colon != std::string::npos) text = text.substr(colon + 3);
        while (!text.empty() && std::isspace(static_cast<unsigned char>(text.back()))) text.pop_back();
    }
    std::string text;
};

/// The reader takes a file whose appended data end early for zeros: a file cut short is known by its missing end.
void requireCompleteXml(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    in.seekg(0, std::ios::end);
    const auto size = static_cast<long>(in.tellg());
    const long length = std::min(size, 256L);
    std::string end(static_cast<std::size_t>(length), ' ');
    in.seekg(size - length);
    in.read(end.data(), length);
    if (end.find("</VTKFile>") == std::string::npos)
        throw InputError(ErrorDetail{"The file is cut short.", path, "end of the file", "</VTKFile>",
                                     std::to_string(size) + " bytes without it"});
}

field::DensityField readImage(const FieldSource& source) {
    requireCompleteXml(source.path);
    vtkNew<vtkXMLImageDataReader> reader;
    vtkNew<ErrorCollector> errors;
    reader->AddObserver(vtkCommand::ErrorEvent, errors);
    reader->AddObserver(vtkCommand::WarningEvent, errors);
    reader->SetReaderErrorObserver(errors);
    reader->SetParserErrorObserver(errors);
    reader->GetExecutive()->AddObserver(vtkCommand::ErrorEvent, errors);
    reader->SetFileName(source.path.c_str());
    reader->UpdateInformation();
    auto refuse = [&](const std::string& problem, const std::string& place, const std::string& expected,
                      const std::string& found) {
        throw InputError(ErrorDetail{problem, source.path, place, expected, found});
    };
    // the grid's claim against the file's size, before memory is taken for it
    int extent[6] = {0, -1, 0, -1, 0, -1};
    if (errors->text.empty() && reader->GetOutputInformation(0))
        reader->GetOutputInformation(0)->Get(vtkStreamingDemandDrivenPipeline::WHOLE_EXTENT(), extent);
    double cells = 1;
    for (int a = 0; a < 3; ++a) cells *= std::max(0.0, static_cast<double>(extent[2 * a + 1]) - extent[2 * a]);
    const double size = static_cast<double>(std::filesystem::file_size(source.path));
    if (errors->text.empty() && cells > 1000 * size + 1e6)
        refuse("The file is too small for the grid that it claims.", "WholeExtent", "cells that the file can hold",
               std::to_string(cells) + " cells");
    if (errors->text.empty()) reader->Update();
    if (!errors->text.empty())
        refuse("The image data cannot be read: the file is damaged or cut short.", "XML image data",
               "a complete VTK XML image file", errors->text);
    vtkImageData* image = reader->GetOutput();
    if (!image || image->GetNumberOfCells() == 0)
        refuse("The file holds no grid.", "ImageData", "a grid of cells", "none");

    field::DensityField f;
    int dims[3];
    double origin[3], spacing[3];
    image->GetDimensions(dims);
    image->GetOrigin(origin);
    image->GetSpacing(spacing);
    int inner[6];
    image->GetExtent(inner);
    for (int a = 0; a < 3; ++a) {
        f.cells[a] = dims[a] - 1;
        f.spacing[a] = spacing[a];
        f.origin[a] = origin[a] + inner[2 * a] * spacing[a];
    }
    f.source = source.path + " (" + source.array + ")";
    vtkDataArray* cellArray = image->GetCellData()->GetArray(source.array.c_str());
    vtkDataArray* pointArray = image->GetPointData()->GetArray(source.array.c_str());
    vtkDataArray* array = cellArray ? cellArray : pointArray;
    if (!array) {
        std::string there;
        for (int i = 0; i < image->GetCellData()->GetNumberOfArrays(); ++i)
            there += std::string(there.empty() ? "" : ", ") + image->GetCellData()->GetArrayName(i) + " (cells)";
        for (int i = 0; i < image->GetPointData()->GetNumberOfArrays(); ++i)
            there += std::string(there.empty() ? "" : ", ") + image->GetPointData()->GetArrayName(i) + " (points)";
        refuse("The field has no array of that name.", "array '" + source.array + "'", "one of the arrays in the file",
               there.empty() ? "no arrays" : there);
    }
    if (array->GetNumberOfComponents() != 1)
        refuse("The array is not a scalar.", "array '" + source.array + "'", "1 component",
               std::to_string(array->GetNumberOfComponents()) + " components");
    const std::size_t count = static_cast<std::size_t>(f.cells[0]) * f.cells[1] * f.cells[2];
    const std::size_t wanted = cellArray ? count : static_cast<std::size_t>(image->GetNumberOfPoints());
    if (static_cast<std::size_t>(array->GetNumberOfTuples()) != wanted)
        refuse("The array does not fit the grid.", "array '" + source.array + "'", std::to_string(wanted) + " values",
               std::to_string(array->GetNumberOfTuples()) + " values");
    f.density.resize(count);
    for (std::size_t c = 0; c < count; ++c) {
        if (cellArray) {
            f.density[c] = static_cast<float>(array->GetComponent(static_cast<vtkIdType>(c), 0));
            continue;
        }
        const std::size_t i = c % f.cells[0], j = c / f.cells[0] % f.cells[1],
                          k = c / (static_cast<std::size_t>(f.cells[0]) * f.cells[1]);
        double sum = 0;
        for (int m = 0; m < 8; ++m)
            sum += array->GetComponent(
                static_cast<vtkIdType>((i + (m & 1)) + dims[0] * ((j + (m >> 1 & 1)) +
                                                                  static_cast<std::size_t>(dims[1]) * (k + (m >> 2)))),
                0);
        f.density[c] = static_cast<float>(sum / 8);
    }
    return f;
}

field::DensityField readNumpy(const FieldSource& source) {
    std::ifstream in(source.path, std::ios::binary);
    auto refuse = [&](const std::string& place, const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{"The NumPy array cannot be read.", source.path, place, expected, found});
    };
    unsigned char head[12] = {};
    in.read(reinterpret_cast<char*>(head), 10);
    if (in.gcount() < 10) refuse("header", "a NumPy header", "the end of the file");
    std::size_t length = head[8] + 256u * head[9];
    if (head[6] >= 2) {
        in.read(reinterpret_cast<char*>(head + 10), 2);
        length += (static_cast<std::size_t>(head[10]) << 16) + (static_cast<std::size_t>(head[11]) << 24);
    }
    if (length > 65536) refuse("header", "at most 64 KiB", std::to_string(length) + " bytes");
    std::string header(length, ' ');
    in.read(header.data(), static_cast<std::streamsize>(length));
    if (static_cast<std::size_t>(in.gcount()) < length)
        refuse("header", std::to_string(length) + " bytes", "the end of the file");
    auto after = [&](const std::string& key) {
        const auto at = header.find("'" + key + "'");
        if (at == std::string::npos) refuse("header", "the key '" + key + "'", header);
        return header.substr(header.find(':', at) + 1);
    };
    const std::string type = after("descr");
    const bool isDouble = type.find("'<f8'") != std::string::npos && type.find("'<f8'") < 4;
    if (!isDouble && !(type.find("'<f4'") != std::string::npos && type.find("'<f4'") < 4))
        refuse("header, 'descr'", "'<f4' or '<f8'", type.substr(0, std::min<std::size_t>(type.find(','), 20)));
    const bool fortran = after("fortran_order").substr(0, 6).find("True") != std::string::npos;
    std::string shapeText = after("shape");
    shapeText = shapeText.substr(shapeText.find('(') + 1);
    shapeText = shapeText.substr(0, shapeText.find(')'));
    std::vector<long> shape;
    std::stringstream parts(shapeText);
    for (std::string part; std::getline(parts, part, ',');)
        if (part.find_first_not_of(' ') != std::string::npos) shape.push_back(std::strtol(part.c_str(), nullptr, 10));
    if (shape.size() != 3) refuse("header, 'shape'", "three axes (z, y, x)", "(" + shapeText + ")");
    double count = 1;
    for (long s : shape) {
        if (s < 1 || s > 100000) refuse("header, 'shape'", "axes between 1 and 100000", "(" + shapeText + ")");
        count *= static_cast<double>(s);
    }
    const auto start = static_cast<double>(in.tellg());
    const double available =
        (static_cast<double>(std::filesystem::file_size(source.path)) - start) / (isDouble ? 8 : 4);
    if (available < count)
        refuse("data", std::to_string(static_cast<long long>(count)) + " values",
               std::to_string(static_cast<long long>(available)) + " values: the file is cut short");
    if (!source.spacing)
        refuse("spacing", "a cell size in the part file (field.spacing)", "none: a .npy file holds no lengths");
    field::DensityField f;
    f.cells = {static_cast<int>(shape[2]), static_cast<int>(shape[1]), static_cast<int>(shape[0])};
    f.origin = source.origin.value_or(Vec3::Zero());
    f.spacing = *source.spacing;
    f.source = source.path;
    const auto n = static_cast<std::size_t>(count);
    std::vector<char> bytes(n * (isDouble ? 8 : 4));
    in.read(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    f.density.resize(n);
    for (std::size_t c = 0; c < n; ++c) {
        std::size_t at = c;
        if (fortran) {  // first axis (z) fastest
            const std::size_t nx = f.cells[0], ny = f.cells[1], nz = f.cells[2];
            at = c / (nx * ny) + nz * (c / nx % ny + ny * (c % nx));
        }
        if (isDouble) {
            double v;
            std::memcpy(&v, &bytes[8 * at], 8);
            f.density[c] = static_cast<float>(v);
        } else {
            std::memcpy(&f.density[c], &bytes[4 * at], 4);
        }
    }
    return f;
}

}  // namespace

field::DensityField readField(const FieldSource& source) {
    std::ifstream in(source.path, std::ios::binary);
    if (!in || std::filesystem::is_directory(source.path))
        throw InputError(ErrorDetail{
            "The density field cannot be opened.", source.path, {}, "a .vti or .npy file", "no readable file there"});
    std::string start(512, '\0');
    in.read(start.data(), static_cast<std::streamsize>(start.size()));
    start.resize(static_cast<std::size_t>(in.gcount()));
    in.close();
    field::DensityField field;
    if (start.rfind("\x93NUMPY", 0) == 0) {
        field = readNumpy(source);
    } else if (start.find("<VTKFile") != std::string::npos && start.find("ImageData") != std::string::npos) {
        field = readImage(source);
    } else {
        throw InputError(ErrorDetail{"The file is not a density field that can be read.", source.path, "first bytes",
                                     "VTK XML image data (.vti) or a NumPy array (.npy)",
                                     start.empty() ? "an empty file" : "something else"});
    }
    field::validate(field);
    return field;
}

}  // namespace escultura::exchange
