#include "exchange/writers.hpp"

#include <fcntl.h>
#include <unistd.h>
#include <vtkCellArray.h>
#include <vtkDoubleArray.h>
#include <vtkIdList.h>
#include <vtkNew.h>
#include <vtkObject.h>
#include <vtkPointData.h>
#include <vtkPoints.h>
#include <vtkUnstructuredGrid.h>
#include <vtkXMLUnstructuredGridReader.h>
#include <vtkXMLUnstructuredGridWriter.h>

#include <cerrno>
#include <cmath>
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

void flushToDisk(const std::string& path) {
    const int file = open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (file < 0) cannotWrite(path);
    const int failed = fsync(file) == 0 || errno == EINVAL || errno == EROFS ? 0 : errno;  // EINVAL: nothing to flush
    close(file);
    if (failed) cannotWrite(path);
}

void replaceFile(const std::string& path, const std::function<void(const std::string&)>& write) {
    const std::string temporary = path + ".part";
    std::error_code ignored;
    try {
        write(temporary);
        flushToDisk(temporary);
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
    // the new name lasts too; where a folder cannot be flushed, the file is there all the same
    const std::filesystem::path folder = std::filesystem::absolute(path, failed).parent_path();
    if (const int f = open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); f >= 0) {
        fsync(f);
        close(f);
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
    vtkObject::GlobalWarningDisplayOff();  // a failure is told by our own error
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
        if (!writer->Write() || writer->GetErrorCode() != 0) cannotWrite(path);
        // the library does not tell of every failure: a file without its last line is not whole
        const std::string last = "</VTKFile>";
        std::ifstream in(temporary, std::ios::binary | std::ios::ate);
        const auto size = static_cast<std::streamoff>(in.tellg());
        std::string tail(64, '\0');
        in.seekg(std::max<std::streamoff>(0, size - 64));
        in.read(tail.data(), 64);
        tail.resize(static_cast<std::size_t>(std::max<std::streamsize>(in.gcount(), 0)));
        if (tail.find(last) == std::string::npos) cannotWrite(path);
    });
}

std::string differenceOfVtu(const std::string& a, const std::string& b, double share) {
    vtkObject::GlobalWarningDisplayOff();
    vtkNew<vtkXMLUnstructuredGridReader> readers[2];
    vtkUnstructuredGrid* grids[2];
    for (int i = 0; i < 2; ++i) {
        readers[i]->SetFileName((i ? b : a).c_str());
        readers[i]->Update();
        grids[i] = readers[i]->GetOutput();
        if (readers[i]->GetErrorCode() != 0 || grids[i]->GetNumberOfPoints() == 0) return "a file that cannot be read";
    }
    if (grids[0]->GetNumberOfPoints() != grids[1]->GetNumberOfPoints() ||
        grids[0]->GetNumberOfCells() != grids[1]->GetNumberOfCells())
        return std::to_string(grids[1]->GetNumberOfCells()) + " elements, not " +
               std::to_string(grids[0]->GetNumberOfCells());
    for (vtkIdType c = 0; c < grids[0]->GetNumberOfCells(); ++c) {
        vtkNew<vtkIdList> nodes[2];
        for (int i = 0; i < 2; ++i) grids[i]->GetCellPoints(c, nodes[i]);
        if (nodes[0]->GetNumberOfIds() != nodes[1]->GetNumberOfIds()) return "element " + std::to_string(c);
        for (vtkIdType k = 0; k < nodes[0]->GetNumberOfIds(); ++k)
            if (nodes[0]->GetId(k) != nodes[1]->GetId(k)) return "element " + std::to_string(c);
    }
    auto differ = [&](vtkDataArray* x, vtkDataArray* y) {
        if (!x || !y || x->GetNumberOfComponents() != y->GetNumberOfComponents() ||
            x->GetNumberOfTuples() != y->GetNumberOfTuples())
            return true;
        double size = 0, off = 0;
        for (vtkIdType n = 0; n < x->GetNumberOfTuples(); ++n)
            for (int k = 0; k < x->GetNumberOfComponents(); ++k) {
                size = std::max(size, std::abs(x->GetComponent(n, k)));
                off = std::max(off, std::abs(x->GetComponent(n, k) - y->GetComponent(n, k)));
            }
        return !(off <= share * size);
    };
    if (differ(grids[0]->GetPoints()->GetData(), grids[1]->GetPoints()->GetData())) return "positions";
    vtkPointData* data[2] = {grids[0]->GetPointData(), grids[1]->GetPointData()};
    if (data[0]->GetNumberOfArrays() != data[1]->GetNumberOfArrays()) return "the number of arrays";
    for (int i = 0; i < data[0]->GetNumberOfArrays(); ++i) {
        const char* name = data[0]->GetArrayName(i);
        if (differ(data[0]->GetArray(i), data[1]->GetArray(name))) return std::string("array '") + name + "'";
    }
    return {};
}

}  // namespace escultura::exchange
