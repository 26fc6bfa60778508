/// @file exchange/step_shape.hpp
/// Inside this folder only: a STEP file as shapes of the kernel.

#pragma once
#include <STEPControl_Reader.hxx>
#include <TopoDS_Shape.hxx>
#include <functional>
#include <string>
#include <vector>

namespace escultura::exchange {

/// A STEP file with triangles on its faces; lives as long as the names are asked for.
class StepShape {
  public:
    /// @param deviation  of the triangles, mm
    /// @throws InputError naming the file
    StepShape(const std::string& path, double deviation);
    const TopoDS_Shape& shape() const { return shape_; }
    /// Solids, then shells of no solid, with the names of their items; empty where they have none.
    const std::vector<std::pair<TopoDS_Shape, std::string>>& bodies() const { return bodies_; }
    /// Name of the file's item that a shape was made of; empty: it has none.
    std::string nameOf(const TopoDS_Shape& shape) const;
    /// @throws InputError about this file
    [[noreturn]] void refuse(const std::string& place, const std::string& expected, const std::string& found) const;

  private:
    std::string path_;
    STEPControl_Reader reader_;
    TopoDS_Shape shape_;
    std::vector<std::pair<TopoDS_Shape, std::string>> bodies_;
};

}  // namespace escultura::exchange
