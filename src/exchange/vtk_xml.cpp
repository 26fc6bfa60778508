/// VTK XML files (.vti, .vtu) after the published file format: ascii, base64 and appended data, zlib and lz4. Long
/// because two kinds of files share elements, streams and arrays.

#include <lz4.h>
#include <zlib.h>

#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <map>

#include "exchange/vtk_data.hpp"

namespace escultura::exchange {
namespace {

struct Element {
    std::string name;
    std::map<std::string, std::string> attribute;
    std::size_t begin = 0, end = 0;  // contents in the file
    std::vector<Element> children;

    const std::string& text(const std::string& key) const {
        static const std::string none;
        const auto at = attribute.find(key);
        return at == attribute.end() ? none : at->second;
    }
    const Element* child(const std::string& wanted) const {
        for (const Element& c : children)
            if (c.name == wanted) return &c;
        return nullptr;
    }
};

/// Reads the elements of a VTK XML file; stops at appended data.
class Document {
  public:
    Document(const std::string& bytes, const std::string& path) : bytes_(bytes), path_(path) {
        at_ = bytes.find("<VTKFile");
        root_ = parse(0);
    }
    const Element& root() const { return root_; }
    std::size_t appendedAt() const { return appendedAt_; }
    bool appendedIsRaw() const { return appendedIsRaw_; }

  private:
    [[noreturn]] void damaged(const std::string& expected) const {
        const auto line =
            1 + std::count(bytes_.begin(), bytes_.begin() + static_cast<long>(std::min(at_, bytes_.size())), '\n');
        refuseFile(path_, "The VTK XML file is damaged or cut short.", "line " + std::to_string(line), expected,
                   at_ >= bytes_.size() ? "the end of the file" : "something else");
    }
    bool startsWith(const char* word) const { return bytes_.compare(at_, std::strlen(word), word) == 0; }
    void skipTo(const char* word) {
        at_ = bytes_.find(word, at_);
        if (at_ == std::string::npos) at_ = bytes_.size(), damaged(word);
    }
    void skipSpace() {
        while (at_ < bytes_.size() && std::isspace(static_cast<unsigned char>(bytes_[at_]))) ++at_;
    }

    Element parse(int depth) {
        if (depth > 12) damaged("fewer nested elements");
        Element e;
        ++at_;  // '<'
        while (at_ < bytes_.size() && (std::isalnum(static_cast<unsigned char>(bytes_[at_])) || bytes_[at_] == '_'))
            e.name += bytes_[at_++];
        if (e.name.empty()) damaged("the name of an element");
        for (;;) {
            skipSpace();
            if (at_ >= bytes_.size()) damaged("'>'");
            if (bytes_[at_] == '/') {
                skipTo(">");
                ++at_;
                return e;
            }
            if (bytes_[at_] == '>') break;
            std::string key;
            while (at_ < bytes_.size() && (std::isalnum(static_cast<unsigned char>(bytes_[at_])) || bytes_[at_] == '_'))
                key += bytes_[at_++];
            skipSpace();
            if (key.empty() || at_ >= bytes_.size() || bytes_[at_] != '=') damaged("an attribute");
            ++at_;
            skipSpace();
            if (at_ >= bytes_.size() || (bytes_[at_] != '"' && bytes_[at_] != '\'')) damaged("a quoted value");
            const std::size_t close = bytes_.find(bytes_[at_], at_ + 1);
            if (close == std::string::npos) damaged("a closing quote");
            if (!e.attribute.emplace(key, bytes_.substr(at_ + 1, close - at_ - 1)).second)
                damaged("the attribute '" + key + "' once");
            at_ = close + 1;
        }
        e.begin = ++at_;
        if (e.name == "AppendedData") {
            appendedIsRaw_ = e.text("encoding") != "base64";
            skipTo("_");
            appendedAt_ = ++at_;
            at_ = bytes_.rfind("</AppendedData>");
            if (at_ == std::string::npos || at_ < appendedAt_) at_ = bytes_.size(), damaged("</AppendedData>");
            skipTo(">");
            ++at_;
            return e;
        }
        for (;;) {
            skipTo("<");
            if (startsWith("<!--")) {
                skipTo("-->");
                continue;
            }
            if (startsWith("</")) {
                e.end = at_;
                if (bytes_.compare(at_ + 2, e.name.size(), e.name) != 0) damaged("</" + e.name + ">");
                skipTo(">");
                ++at_;
                return e;
            }
            e.children.push_back(parse(depth + 1));
        }
    }

    const std::string& bytes_;
    const std::string& path_;
    std::size_t at_ = 0, appendedAt_ = 0;
    bool appendedIsRaw_ = true;
    Element root_;
};

/// Bytes from a place in the file, plain or base64. Groups of four characters are decoded one by one, so that chunks
/// that were encoded apart (each with its own padding) run on.
class ByteStream {
  public:
    ByteStream(const std::string& bytes, std::size_t begin, std::size_t end, bool base64)
        : bytes_(bytes), at_(begin), end_(std::min(end, bytes.size())), base64_(base64) {}
    /// At most so many bytes are left.
    std::size_t left() const {
        return at_ < end_ ? (base64_ ? (end_ - at_) / 4 * 3 + pending_.size() : end_ - at_) : pending_.size();
    }
    bool read(char* out, std::size_t n) {
        if (!base64_) {
            if (at_ > end_ || n > end_ - at_) return false;
            std::memcpy(out, bytes_.data() + at_, n);
            at_ += n;
            return true;
        }
        for (std::size_t done = 0; done < n;) {
            if (pending_.empty() && !decodeGroup()) return false;
            const std::size_t take = std::min(n - done, pending_.size());
            std::memcpy(out + done, pending_.data(), take);
            pending_.erase(0, take);
            done += take;
        }
        return true;
    }

  private:
    static int digit(char c) {
        if (c >= 'A' && c <= 'Z') return c - 'A';
        if (c >= 'a' && c <= 'z') return c - 'a' + 26;
        if (c >= '0' && c <= '9') return c - '0' + 52;
        return c == '+' ? 62 : c == '/' ? 63 : c == '=' ? 64 : -1;
    }
    bool decodeGroup() {
        int d[4], n = 0;
        while (n < 4 && at_ < end_) {
            const char c = bytes_[at_++];
            if (std::isspace(static_cast<unsigned char>(c))) continue;
            d[n] = digit(c);
            if (d[n] < 0) return false;
            ++n;
        }
        if (n < 4 || d[0] == 64 || d[1] == 64) return false;
        const int v = d[0] << 18 | d[1] << 12 | (d[2] & 63) << 6 | (d[3] & 63);
        pending_ += static_cast<char>(v >> 16);
        if (d[2] != 64) pending_ += static_cast<char>(v >> 8);
        if (d[3] != 64) pending_ += static_cast<char>(v);
        return true;
    }
    const std::string& bytes_;
    std::size_t at_, end_;
    bool base64_;
    std::string pending_;
};

struct NumberType {
    const char* name;
    std::size_t size;
    double (*read)(const char*, bool);
};
constexpr NumberType numberTypes[] = {
    {"Float32", 4, numberAt<float>},      {"Float64", 8, numberAt<double>},
    {"Int8", 1, numberAt<std::int8_t>},   {"UInt8", 1, numberAt<std::uint8_t>},
    {"Int16", 2, numberAt<std::int16_t>}, {"UInt16", 2, numberAt<std::uint16_t>},
    {"Int32", 4, numberAt<std::int32_t>}, {"UInt32", 4, numberAt<std::uint32_t>},
    {"Int64", 8, numberAt<std::int64_t>}, {"UInt64", 8, numberAt<std::uint64_t>},
};

/// Reads the arrays of one file.
class ArrayReader {
  public:
    ArrayReader(const std::string& bytes, const Document& document, const std::string& path)
        : bytes_(bytes), document_(document), path_(path) {
        const Element& root = document.root();
        swap_ = (root.text("byte_order") == "BigEndian") != (std::endian::native == std::endian::big);
        auto oneOf = [&](const char* attribute, const std::string& usual, const std::string& other) {
            const std::string& found = root.text(attribute);
            if (!found.empty() && found != usual && found != other)
                refuseFile(path, "The file's head cannot be understood.", attribute, usual + " or " + other,
                           "'" + found.substr(0, 40) + "'");
        };
        oneOf("byte_order", "LittleEndian", "BigEndian");
        oneOf("header_type", "UInt32", "UInt64");
        wideHeader_ = root.text("header_type") == "UInt64";
        compressor_ = root.text("compressor");
        if (!compressor_.empty() && compressor_ != "vtkZLibDataCompressor" && compressor_ != "vtkLZ4DataCompressor")
            refuseFile(path, "The file is compressed in a way that cannot be read.", "compressor", "zlib, lz4 or none",
                       compressor_);
    }

    /// @param tuples  expected number
    VtkArray read(const Element& e, std::size_t tuples) const {
        VtkArray a;
        a.name = e.text("Name");
        const std::string place = "array '" + a.name + "'";
        if (!e.text("NumberOfComponents").empty())
            a.components = static_cast<int>(integer(e.text("NumberOfComponents"), place, 1, 100));
        const std::size_t count = tuples * static_cast<std::size_t>(a.components);
        // zlib reaches 1032:1 at most, lz4 255:1
        if (count > 1100.0 * static_cast<double>(bytes_.size()) + 4096)
            refuseFile(path_, "The file is too small for what it claims to hold.", place,
                       "a count that " + std::to_string(bytes_.size()) + " bytes can hold", std::to_string(count));
        const std::string& format = e.text("format");
        if (format.empty() || format == "ascii") {
            ascii(e, count, place, a.value);
            return a;
        }
        const NumberType* type = nullptr;
        for (const NumberType& t : numberTypes)
            if (e.text("type") == t.name) type = &t;
        if (!type)
            refuseFile(path_, "An array has a type that cannot be read.", place, "a number type", e.text("type"));
        std::string raw;
        if (format == "appended") {
            if (document_.appendedAt() == 0) refuseFile(path_, "The file has no appended data.", place, "data", "none");
            const auto offset = static_cast<std::size_t>(
                integer(e.text("offset"), place + ", offset", 0, static_cast<double>(bytes_.size())));
            raw = block(ByteStream(bytes_, document_.appendedAt() + offset, bytes_.size(), !document_.appendedIsRaw()),
                        count * type->size, place);
        } else {
            raw = block(ByteStream(bytes_, e.begin, e.end, true), count * type->size, place);
        }
        a.value.resize(count);
        for (std::size_t i = 0; i < count; ++i) a.value[i] = type->read(raw.data() + i * type->size, swap_);
        return a;
    }

    double integer(const std::string& text, const std::string& place, double low, double high) const {
        double v = 0;
        const char* begin = text.data();
        while (begin < text.data() + text.size() && *begin == ' ') ++begin;
        const auto [end, error] = std::from_chars(begin, text.data() + text.size(), v);
        if (error != std::errc() || !(v >= low) || !(v <= high) || v != std::floor(v))
            refuseFile(path_, "The file states an impossible number.", place, "a whole number the file can hold",
                       "'" + text.substr(0, 40) + "'");
        return v;
    }

  private:
    void ascii(const Element& e, std::size_t count, const std::string& place, std::vector<double>& value) const {
        if (count > (e.end - e.begin) / 2 + 1)
            refuseFile(path_, "An array is too short.", place, std::to_string(count) + " values", "fewer");
        value.reserve(count);
        const char *p = bytes_.data() + e.begin, *last = bytes_.data() + e.end;
        while (value.size() < count) {
            while (p < last && std::isspace(static_cast<unsigned char>(*p))) ++p;
            double v = 0;
            if (p < last && *p == '+') ++p;
            const auto [end, error] = std::from_chars(p, last, v);
            if (error == std::errc::result_out_of_range)
                v = 0;
            else if (error != std::errc())
                refuseFile(path_, "An array cannot be read.", place, std::to_string(count) + " numbers",
                           std::to_string(value.size()) + ", then something else");
            value.push_back(v);
            p = end;
        }
    }

    std::uint64_t header(ByteStream& in, const std::string& place) const {
        char raw[8];
        if (!in.read(raw, wideHeader_ ? 8 : 4)) tooShort(place);
        return static_cast<std::uint64_t>(wideHeader_ ? numberAt<std::uint64_t>(raw, swap_)
                                                      : numberAt<std::uint32_t>(raw, swap_));
    }
    [[noreturn]] void tooShort(const std::string& place) const {
        refuseFile(path_, "An array is damaged or cut short.", place, "complete data", "the data end early");
    }

    std::string block(ByteStream in, std::size_t size, const std::string& place) const {
        std::string out;
        if (compressor_.empty()) {
            const std::uint64_t n = header(in, place);
            if (n != size)
                refuseFile(path_, "An array does not fit the grid.", place, std::to_string(size) + " bytes",
                           std::to_string(n) + " bytes");
            if (size > in.left() + 8) tooShort(place);
            out.resize(size);
            if (!in.read(out.data(), size)) tooShort(place);
            return out;
        }
        const std::uint64_t blocks = header(in, place);
        if (blocks == 0 && size == 0) return out;
        const std::uint64_t full = header(in, place), rest = header(in, place);
        const double total = static_cast<double>(full) * static_cast<double>(blocks) -
                             (rest ? static_cast<double>(full) - static_cast<double>(rest) : 0.0);
        if (blocks == 0 || blocks > in.left() || total != static_cast<double>(size))
            refuseFile(path_, "An array does not fit the grid.", place, std::to_string(size) + " bytes",
                       std::to_string(static_cast<long long>(std::min(total, 9e18))) + " bytes");
        std::vector<std::uint64_t> packed(blocks);
        for (auto& p : packed) p = header(in, place);
        out.resize(size);
        std::size_t at = 0;
        std::string compressed;
        for (std::uint64_t b = 0; b < blocks; ++b) {
            const std::size_t wanted = b + 1 == blocks && rest ? rest : full;
            if (packed[b] > in.left() + 8) tooShort(place);
            compressed.resize(packed[b]);
            if (!in.read(compressed.data(), compressed.size())) tooShort(place);
            bool good = false;
            if (compressor_ == "vtkZLibDataCompressor") {
                uLongf n = wanted;
                good = uncompress(reinterpret_cast<Bytef*>(out.data() + at), &n,
                                  reinterpret_cast<const Bytef*>(compressed.data()), compressed.size()) == Z_OK &&
                       n == wanted;
            } else {
                good = compressed.size() < (1u << 30) && wanted < (1u << 30) &&
                       LZ4_decompress_safe(compressed.data(), out.data() + at, static_cast<int>(compressed.size()),
                                           static_cast<int>(wanted)) == static_cast<int>(wanted);
            }
            if (!good)
                refuseFile(path_, "An array is damaged.", place + ", block " + std::to_string(b),
                           "compressed data that unpack to " + std::to_string(wanted) + " bytes", "something else");
            at += wanted;
        }
        return out;
    }

    const std::string& bytes_;
    const Document& document_;
    const std::string& path_;
    bool swap_ = false, wideHeader_ = false;
    std::string compressor_;
};

std::array<double, 6> numbers(const Element& e, const char* key, int count, const std::string& path) {
    std::array<double, 6> v{};
    const std::string& text = e.text(key);
    const char *p = text.data(), *last = p + text.size();
    for (int n = 0; n < count; ++n) {
        while (p < last && std::isspace(static_cast<unsigned char>(*p))) ++p;
        const auto [end, error] = std::from_chars(p, last, v[n]);
        if (error != std::errc() || !std::isfinite(v[n]))
            refuseFile(path, "The grid's description cannot be read.", key, std::to_string(count) + " numbers",
                       "'" + text.substr(0, 60) + "'");
        p = end;
    }
    return v;
}

void requireWhole(const std::array<double, 6>& extent, const char* key, const std::string& path) {
    for (double v : extent)
        if (v != std::floor(v) || std::abs(v) > 1e6)
            refuseFile(path, "The grid's description cannot be read.", key, "whole numbers below a million",
                       std::to_string(v));
}

/// Copies a piece's values into the whole grid's array of the same name.
void place(std::vector<VtkArray>& arrays, VtkArray piece, const std::array<double, 6>& whole,
           const std::array<double, 6>& part, int extra) {
    auto length = [&](const std::array<double, 6>& e, int a) {
        return static_cast<std::size_t>(e[2 * a + 1] - e[2 * a]) + static_cast<std::size_t>(extra);
    };
    auto at = std::find_if(arrays.begin(), arrays.end(), [&](const VtkArray& a) { return a.name == piece.name; });
    if (whole == part && at == arrays.end()) {
        arrays.push_back(std::move(piece));
        return;
    }
    const auto components = static_cast<std::size_t>(piece.components);
    if (at == arrays.end()) {
        VtkArray all{piece.name, piece.components, {}};
        all.value.assign(length(whole, 0) * length(whole, 1) * length(whole, 2) * components, 0.0);
        arrays.push_back(std::move(all));
        at = arrays.end() - 1;
    }
    if (at->components != piece.components) return;
    const std::size_t nx = length(part, 0), ny = length(part, 1), nz = length(part, 2);
    for (std::size_t k = 0; k < nz; ++k)
        for (std::size_t j = 0; j < ny; ++j)
            for (std::size_t i = 0; i < nx; ++i) {
                const std::size_t x = i + static_cast<std::size_t>(part[0] - whole[0]),
                                  y = j + static_cast<std::size_t>(part[2] - whole[2]),
                                  z = k + static_cast<std::size_t>(part[4] - whole[4]);
                for (std::size_t c = 0; c < components; ++c)
                    at->value[((z * length(whole, 1) + y) * length(whole, 0) + x) * components + c] =
                        piece.value[((k * ny + j) * nx + i) * components + c];
            }
}

void readImage(const Element& image, const ArrayReader& reader, const std::string& path, std::size_t size, VtkGrid& g) {
    g.isImage = true;
    const auto whole = numbers(image, "WholeExtent", 6, path);
    requireWhole(whole, "WholeExtent", path);
    const auto spacing =
        image.text("Spacing").empty() ? std::array<double, 6>{1, 1, 1} : numbers(image, "Spacing", 3, path);
    const auto origin = image.text("Origin").empty() ? std::array<double, 6>{} : numbers(image, "Origin", 3, path);
    if (!image.text("Direction").empty() && image.text("Direction").find_first_not_of("1 0") != std::string::npos)
        refuseFile(path, "The grid is turned against the axes.", "Direction", "1 0 0 0 1 0 0 0 1",
                   image.text("Direction"));
    double cells = 1;
    for (int a = 0; a < 3; ++a) {
        g.cells[a] = static_cast<int>(whole[2 * a + 1] - whole[2 * a]);
        cells *= std::max(g.cells[a], 0);
        g.spacing[a] = spacing[a];
        g.origin[a] = origin[a] + whole[2 * a] * spacing[a];
    }
    if (cells > 1100.0 * static_cast<double>(size) + 1e4)
        refuseFile(path, "The file is too small for the grid that it claims.", "WholeExtent",
                   "cells that the file can hold", std::to_string(static_cast<long long>(cells)) + " cells");
    for (const Element& piece : image.children) {
        if (piece.name != "Piece") continue;
        const auto part = numbers(piece, "Extent", 6, path);
        requireWhole(part, "Piece Extent", path);
        double pieceCells = 1, piecePoints = 1;
        for (int a = 0; a < 3; ++a) {
            if (part[2 * a] < whole[2 * a] || part[2 * a + 1] > whole[2 * a + 1] || part[2 * a] > part[2 * a + 1])
                refuseFile(path, "A piece lies outside the grid.", "Piece Extent", image.text("WholeExtent"),
                           piece.text("Extent"));
            pieceCells *= part[2 * a + 1] - part[2 * a];
            piecePoints *= part[2 * a + 1] - part[2 * a] + 1;
        }
        if (const Element* data = piece.child("CellData"))
            for (const Element& a : data->children)
                if (a.name == "DataArray")
                    place(g.cellArrays, reader.read(a, static_cast<std::size_t>(pieceCells)), whole, part, 0);
        if (const Element* data = piece.child("PointData"))
            for (const Element& a : data->children)
                if (a.name == "DataArray")
                    place(g.pointArrays, reader.read(a, static_cast<std::size_t>(piecePoints)), whole, part, 1);
    }
}

void append(std::vector<VtkArray>& arrays, VtkArray piece) {
    for (VtkArray& a : arrays)
        if (a.name == piece.name && a.components == piece.components) {
            a.value.insert(a.value.end(), piece.value.begin(), piece.value.end());
            return;
        }
    arrays.push_back(std::move(piece));
}

void readMesh(const Element& mesh, const ArrayReader& reader, const std::string& path, std::size_t size, VtkGrid& g) {
    for (const Element& piece : mesh.children) {
        if (piece.name != "Piece") continue;
        const double most = 1100.0 * static_cast<double>(size);
        const auto points =
            static_cast<std::size_t>(reader.integer(piece.text("NumberOfPoints"), "NumberOfPoints", 0, most));
        const auto cells =
            static_cast<std::size_t>(reader.integer(piece.text("NumberOfCells"), "NumberOfCells", 0, most));
        if (points == 0 || cells == 0) continue;
        const Element *p = piece.child("Points"), *c = piece.child("Cells");
        if (!p || p->children.empty() || !c)
            refuseFile(path, "The file holds no mesh.", "Piece", "Points and Cells", "neither");
        const auto firstNode = static_cast<std::int64_t>(g.points.size() / 3);
        const auto firstEntry = static_cast<std::int64_t>(g.connectivity.size());
        const VtkArray position = reader.read(p->children.front(), points);
        if (position.components != 3)
            refuseFile(path, "The nodes cannot be read.", "Points", "3 components",
                       std::to_string(position.components));
        g.points.insert(g.points.end(), position.value.begin(), position.value.end());
        std::vector<double> offsets, types;
        const Element* connectivity = nullptr;
        for (const Element& a : c->children) {
            if (a.text("Name") == "offsets") offsets = reader.read(a, cells).value;
            if (a.text("Name") == "types") types = reader.read(a, cells).value;
            if (a.text("Name") == "connectivity") connectivity = &a;
        }
        if (offsets.empty() || types.empty() || !connectivity || !(offsets.back() >= 0) || offsets.back() > most)
            refuseFile(path, "The elements cannot be read.", "Cells", "connectivity, offsets and types",
                       "one is missing or impossible");
        for (double n : reader.read(*connectivity, static_cast<std::size_t>(offsets.back())).value)
            g.connectivity.push_back(firstNode + static_cast<std::int64_t>(n));
        for (double o : offsets) {
            if (!(std::abs(o) < 1e15)) o = -1;
            g.offsets.push_back(firstEntry + static_cast<std::int64_t>(o));
        }
        for (double t : types) g.types.push_back(static_cast<std::int64_t>(t));
        if (const Element* data = piece.child("CellData"))
            for (const Element& a : data->children)
                if (a.name == "DataArray") append(g.cellArrays, reader.read(a, cells));
        if (const Element* data = piece.child("PointData"))
            for (const Element& a : data->children)
                if (a.name == "DataArray") append(g.pointArrays, reader.read(a, points));
    }
    if (g.types.empty()) refuseFile(path, "The file holds no mesh.", "UnstructuredGrid", "elements", "none");
}

}  // namespace

LoadedField loadVtkXml(const std::string& path, bool unstructured) {
    const std::string bytes = readBytes(path);
    if (bytes.size() < 16 || bytes.rfind("</VTKFile>") == std::string::npos)
        refuseFile(path, "The file is cut short.", "end of the file", "</VTKFile>",
                   std::to_string(bytes.size()) + " bytes without it");
    const Document document(bytes, path);
    const Element* content = document.root().child(unstructured ? "UnstructuredGrid" : "ImageData");
    if (!content)
        refuseFile(path, "The VTK XML file holds nothing.", "VTKFile", unstructured ? "UnstructuredGrid" : "ImageData",
                   "neither grid nor mesh");
    const ArrayReader reader(bytes, document, path);
    VtkGrid g;
    if (unstructured)
        readMesh(*content, reader, path, bytes.size(), g);
    else
        readImage(*content, reader, path, bytes.size(), g);
    return loadVtkGrid(g, path, unstructured ? "VTK XML unstructured grid" : "VTK XML image data");
}

}  // namespace escultura::exchange
