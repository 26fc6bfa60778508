#include <bit>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "exchange/field_file.hpp"

namespace escultura::exchange {
namespace {

struct Header {
    bool isDouble = false, bigEndian = false, fortran = false;
    std::array<long, 3> shape{};
};

Header parseHeader(const std::string& path, const std::string& header) {
    auto refuse = [&](const std::string& place, const std::string& expected, const std::string& found) {
        refuseFile(path, "The NumPy array cannot be read.", place, expected, found);
    };
    auto after = [&](const std::string& key) {
        const auto at = header.find("'" + key + "'");
        const auto colon = at == std::string::npos ? at : header.find(':', at);
        if (colon == std::string::npos) refuse("header", "the key '" + key + "'", header.substr(0, 80));
        return header.substr(colon + 1);
    };
    Header h;
    const std::string type = after("descr").substr(0, 8);
    h.isDouble = type.find("f8'") != std::string::npos;
    h.bigEndian = type.find("'>") != std::string::npos;
    if (!h.isDouble && type.find("f4'") == std::string::npos)
        refuse("header, 'descr'", "'<f4' or '<f8'", type.substr(0, type.find(',')));
    h.fortran = after("fortran_order").substr(0, 6).find("True") != std::string::npos;
    std::string text = after("shape");
    const auto open = text.find('(');
    if (open == std::string::npos) refuse("header, 'shape'", "three axes (z, y, x)", text.substr(0, 20));
    text = text.substr(open + 1);
    text = text.substr(0, text.find(')'));
    std::vector<long> shape;
    std::stringstream parts(text);
    for (std::string part; std::getline(parts, part, ',') && shape.size() < 8;)
        if (part.find_first_not_of(' ') != std::string::npos) shape.push_back(std::strtol(part.c_str(), nullptr, 10));
    if (shape.size() != 3) refuse("header, 'shape'", "three axes (z, y, x)", "(" + text + ")");
    for (int a = 0; a < 3; ++a) {
        if (shape[a] < 1 || shape[a] > 100000) refuse("header, 'shape'", "axes between 1 and 100000", "(" + text + ")");
        h.shape[a] = shape[a];
    }
    return h;
}

template <class T>
float valueAt(const char* bytes, std::size_t at, bool swap) {
    char raw[sizeof(T)];
    std::memcpy(raw, bytes + at * sizeof(T), sizeof(T));
    if (swap) std::reverse(raw, raw + sizeof(T));
    T v;
    std::memcpy(&v, raw, sizeof(T));
    return static_cast<float>(v);
}

}  // namespace

LoadedField loadNumpy(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    auto refuse = [&](const std::string& place, const std::string& expected, const std::string& found) {
        refuseFile(path, "The NumPy array cannot be read.", place, expected, found);
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
    std::string text(length, ' ');
    in.read(text.data(), static_cast<std::streamsize>(length));
    if (static_cast<std::size_t>(in.gcount()) < length)
        refuse("header", std::to_string(length) + " bytes", "the end of the file");
    const Header h = parseHeader(path, text);
    const double count =
        static_cast<double>(h.shape[0]) * static_cast<double>(h.shape[1]) * static_cast<double>(h.shape[2]);
    const std::size_t width = h.isDouble ? 8 : 4;
    const double available = (static_cast<double>(std::filesystem::file_size(path)) - static_cast<double>(in.tellg())) /
                             static_cast<double>(width);
    if (available < count)
        refuse("data", std::to_string(static_cast<long long>(count)) + " values",
               std::to_string(static_cast<long long>(available)) + " values: the file is cut short");
    LoadedField f;
    f.file.kind = FieldFile::Kind::array;
    f.file.format = std::string("NumPy array, ") + (h.isDouble ? "float64" : "float32") +
                    (h.fortran ? ", Fortran order" : ", C order");
    f.file.cells = {static_cast<int>(h.shape[2]), static_cast<int>(h.shape[1]), static_cast<int>(h.shape[0])};
    const auto n = static_cast<std::size_t>(count);
    f.file.count = n;
    std::vector<char> bytes(n * width);
    in.read(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    if (static_cast<std::size_t>(in.gcount()) < bytes.size()) refuse("data", "all values", "the end of the file");
    LoadedArray a;
    a.info.name = "values";
    a.value.resize(n);
    const bool swap = h.bigEndian != (std::endian::native == std::endian::big);
    const std::size_t nx = f.file.cells[0], ny = f.file.cells[1], nz = f.file.cells[2];
    for (std::size_t c = 0; c < n; ++c) {
        // Fortran order: the first axis (z) is fastest
        const std::size_t at = h.fortran ? c / (nx * ny) + nz * (c / nx % ny + ny * (c % nx)) : c;
        a.value[c] = h.isDouble ? valueAt<double>(bytes.data(), at, swap) : valueAt<float>(bytes.data(), at, swap);
    }
    f.arrays.push_back(std::move(a));
    return f;
}

}  // namespace escultura::exchange
