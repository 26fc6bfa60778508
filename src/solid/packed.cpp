#include <BRepTools.hxx>
#include <BRep_Builder.hxx>
#include <BinTools.hxx>
#include <Standard_Failure.hxx>
#include <TopExp_Explorer.hxx>
#include <cstring>
#include <sstream>

#include "base/error.hpp"
#include "solid/kernel.hpp"

namespace escultura::solid {

std::vector<char> packed(const Brep& brep) {
    std::ostringstream out(std::ios::binary);
    std::vector<std::int32_t> owners;
    for (TopExp_Explorer faces(brep.shape, TopAbs_FACE); faces.More(); faces.Next())
        owners.push_back(brep.owner.IsBound(faces.Current()) ? brep.owner.Find(faces.Current()) : 0);
    const auto count = static_cast<std::uint64_t>(owners.size());
    out.write(reinterpret_cast<const char*>(&count), sizeof count);
    out.write(reinterpret_cast<const char*>(owners.data()), static_cast<std::streamsize>(4 * owners.size()));
    BinTools::Write(brep.shape, out, Standard_False, Standard_False, BinTools_FormatVersion_CURRENT);
    const std::string text = out.str();
    return {text.begin(), text.end()};
}

std::shared_ptr<const Brep> unpacked(const std::vector<char>& bytes) {
    auto damaged = [](const std::string& found) {
        throw InputError(ErrorDetail{"A stored solid is damaged.", {}, "faces", "a complete solid", found});
    };
    std::uint64_t count = 0;
    if (bytes.size() < sizeof count) damaged("no data");
    std::memcpy(&count, bytes.data(), sizeof count);
    if (count > (bytes.size() - sizeof count) / 4) damaged("the data end early");
    auto brep = std::make_shared<Brep>();
    const std::size_t start = sizeof count + 4 * count;
    std::istringstream in(std::string(bytes.begin() + static_cast<std::ptrdiff_t>(start), bytes.end()),
                          std::ios::binary);
    try {
        BinTools::Read(brep->shape, in);
    } catch (const Standard_Failure& e) {
        damaged(e.GetMessageString());
    }
    std::uint64_t face = 0;
    for (TopExp_Explorer faces(brep->shape, TopAbs_FACE); faces.More(); faces.Next(), ++face) {
        if (face >= count) break;
        std::int32_t owner = 0;
        std::memcpy(&owner, bytes.data() + sizeof count + 4 * face, 4);
        brep->owner.Bind(faces.Current(), owner);
    }
    if (face != count || brep->shape.IsNull()) damaged("other faces than were stored");
    return brep;
}

}  // namespace escultura::solid
