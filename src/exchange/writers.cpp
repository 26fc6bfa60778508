#include "exchange/writers.hpp"

#include <vtkCellArray.h>
#include <vtkDoubleArray.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkPoints.h>
#include <vtkUnstructuredGrid.h>
#include <vtkXMLUnstructuredGridWriter.h>

#include <cstring>
#include <filesystem>
#include <fstream>

#include "base/error.hpp"

namespace escultura::exchange {
namespace {
[[noreturn]] void cannotWrite(const std::string& path) {
    throw InputError(ErrorDetail{
        "The file cannot be written.", path, {}, "a folder that can be written, with space left", "the write failed"});
}
}  // namespace

void replaceFile(const std::string& path, const std::function<void(const std::string&)>& write) {
    const std::string temporary = path + ".part";
    std::error_code ignored;
    try {
        write(temporary);
    } catch (...) {
        std::filesystem::remove(temporary, ignored);
        throw;
    }
    std::error_code failed;
    std::filesystem::rename(temporary, path, failed);
    if (failed) {
        std::filesystem::remove(temporary, ignored);
        cannotWrite(path);
    }
}

void writeText(const std::string& path, const std::string& text) {
    replaceFile(path, [&](const std::string& temporary) {
        std::ofstream out(temporary, std::ios::binary);
        out.write(text.data(), static_cast<std::streamsize>(text.size()));
        out.close();
        if (!out) cannotWrite(path);
    });
}

void writeStl(const std::string& path, const surface::TriMesh& mesh, const std::string& title) {
    replaceFile(path, [&](const std::string& temporary) {
        std::string bytes(84 + 50 * mesh.triangle.size(), '\0');
        const std::string head = "binary STL, mm: " + title;
        std::memcpy(bytes.data(), head.data(), std::min<std::size_t>(head.size(), 80));
        const auto count = static_cast<std::uint32_t>(mesh.triangle.size());
        std::memcpy(&bytes[80], &count, 4);
        std::size_t at = 84;
        for (const Triangle& t : mesh.triangle) {
            const Vec3 &a = mesh.position[t[0]], &b = mesh.position[t[1]], &c = mesh.position[t[2]];
            for (const Vec3& v : {Vec3((b - a).cross(c - a).normalized()), a, b, c})
                for (int k = 0; k < 3; ++k, at += 4) {
                    const auto x = static_cast<float>(v[k]);
                    std::memcpy(&bytes[at], &x, 4);
                }
            at += 2;
        }
        std::ofstream out(temporary, std::ios::binary);
        out.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
        out.close();
        if (!out) cannotWrite(path);
    });
}

surface::TriMesh readStl(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    char head[84] = {};
    in.read(head, 84);
    std::uint32_t count = 0;
    std::memcpy(&count, head + 80, 4);
    std::error_code failed;
    const auto size = std::filesystem::file_size(path, failed);
    if (!in || failed || size != 84 + 50ull * count)
        throw InputError(ErrorDetail{"The file is not a binary STL.", path, "triangle count",
                                     "84 + 50 bytes a triangle", std::to_string(failed ? 0 : size) + " bytes"});
    surface::TriMesh mesh;
    std::vector<char> record(50);
    for (std::uint32_t t = 0; t < count; ++t) {
        in.read(record.data(), 50);
        for (int v = 0; v < 3; ++v) {
            float x[3];
            std::memcpy(x, &record[12 + 12 * v], 12);
            mesh.position.emplace_back(x[0], x[1], x[2]);
        }
        const auto n = static_cast<std::int32_t>(3 * t);
        mesh.triangle.push_back({n, n + 1, n + 2});
    }
    mesh.owner.assign(mesh.triangle.size(), 0);
    return mesh;
}

void writeVtu(const std::string& path, const mesh::TetMesh& mesh, const std::vector<NodalArray>& arrays) {
    vtkNew<vtkUnstructuredGrid> grid;
    vtkNew<vtkPoints> points;
    points->SetDataTypeToDouble();
    points->SetNumberOfPoints(static_cast<vtkIdType>(mesh.position.size()));
    for (std::size_t n = 0; n < mesh.position.size(); ++n)
        points->SetPoint(static_cast<vtkIdType>(n), mesh.position[n].data());
    grid->SetPoints(points);
    grid->Allocate(static_cast<vtkIdType>(mesh.tet.size()));
    for (const auto& t : mesh.tet) {
        vtkIdType ids[10];
        for (int k = 0; k < 10; ++k) ids[k] = t[k];
        grid->InsertNextCell(VTK_QUADRATIC_TETRA, 10, ids);
    }
    for (const NodalArray& a : arrays) {
        vtkNew<vtkDoubleArray> data;
        data->SetName(a.name.c_str());
        data->SetNumberOfComponents(a.components);
        data->SetNumberOfTuples(static_cast<vtkIdType>(mesh.position.size()));
        for (std::size_t n = 0; n < mesh.position.size(); ++n)
            for (int k = 0; k < a.components; ++k) data->SetComponent(static_cast<vtkIdType>(n), k, a.value(n, k));
        grid->GetPointData()->AddArray(data);
    }
    replaceFile(path, [&](const std::string& temporary) {
        {
            std::ofstream probe(temporary, std::ios::binary);
            if (!probe) cannotWrite(path);
        }
        vtkNew<vtkXMLUnstructuredGridWriter> writer;
        writer->SetFileName(temporary.c_str());
        writer->SetInputData(grid);
        writer->SetDataModeToAppended();
        writer->EncodeAppendedDataOff();
        writer->SetCompressorTypeToZLib();
        writer->SetCompressionLevel(1);
        if (!writer->Write()) cannotWrite(path);
    });
}

}  // namespace escultura::exchange
