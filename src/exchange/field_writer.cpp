#include <cstdint>
#include <fstream>
#include <limits>
#include <sstream>

#include "base/error.hpp"
#include "exchange/writers.hpp"

namespace escultura::exchange {

void writeField(const std::string& path, const field::DensityField& field) {
    std::ostringstream head;
    head.precision(std::numeric_limits<double>::max_digits10);
    std::ostringstream extent;
    for (int a = 0; a < 3; ++a) extent << (a ? " " : "") << "0 " << field.cells[static_cast<std::size_t>(a)];
    head << "<?xml version=\"1.0\"?>\n"
         << "<VTKFile type=\"ImageData\" version=\"1.0\" byte_order=\"LittleEndian\" header_type=\"UInt64\">\n"
         << "  <ImageData WholeExtent=\"" << extent.str() << "\" Origin=\"" << field.origin[0] << " " << field.origin[1]
         << " " << field.origin[2] << "\" Spacing=\"" << field.spacing[0] << " " << field.spacing[1] << " "
         << field.spacing[2] << "\">\n"
         << "    <Piece Extent=\"" << extent.str() << "\">\n"
         << "      <CellData Scalars=\"density\">\n"
         << "        <DataArray type=\"Float32\" Name=\"density\" format=\"appended\" offset=\"0\"/>\n"
         << "      </CellData>\n    </Piece>\n  </ImageData>\n  <AppendedData encoding=\"raw\">\n   _";
    replaceFile(path, [&](const std::string& temporary) {
        std::ofstream out(temporary, std::ios::binary);
        out << head.str();
        const std::uint64_t bytes = field.density.size() * sizeof(float);
        out.write(reinterpret_cast<const char*>(&bytes), sizeof bytes);
        out.write(reinterpret_cast<const char*>(field.density.data()), static_cast<std::streamsize>(bytes));
        out << "\n  </AppendedData>\n</VTKFile>\n";
        out.flush();
        if (!out)
            throw InputError(ErrorDetail{"The field cannot be written.",
                                         path,
                                         {},
                                         "room for " + std::to_string(bytes) + " bytes",
                                         "a write failed"});
    });
}

}  // namespace escultura::exchange
