/// @file lattice/sparse_values.hpp
/// Values of a few among very many numbered things: memory is taken only around those that have one.

#pragma once
#include <array>
#include <cstddef>
#include <memory>
#include <vector>

namespace escultura::lattice {

/// Chunks of values that are made when one of them is. Reading is thread-safe; so is writing within chunks that exist.
template <class T>
class SparseValues {
  public:
    explicit SparseValues(std::size_t count = 0, T none = T{}) { assign(count, none); }
    void assign(std::size_t count, T none) {
        none_ = none;
        chunks_.clear();
        chunks_.resize((count + chunk - 1) / chunk);
    }
    const T& operator[](std::size_t i) const {
        const auto& c = chunks_[i / chunk];
        return c ? (*c)[i % chunk] : none_;
    }
    /// The value to be set; makes its chunk.
    T& at(std::size_t i) {
        auto& c = chunks_[i / chunk];
        if (!c) {
            c = std::make_unique<std::array<T, chunk>>();
            c->fill(none_);
        }
        return (*c)[i % chunk];
    }
    /// Calls visit(index, value) for every value of the chunks that exist, in order.
    template <class Visit>
    void forEach(const Visit& visit) {
        for (std::size_t c = 0; c < chunks_.size(); ++c)
            if (chunks_[c])
                for (std::size_t k = 0; k < chunk; ++k) visit(c * chunk + k, (*chunks_[c])[k]);
    }
    /// Bytes that are taken.
    std::size_t bytes() const {
        std::size_t made = 0;
        for (const auto& c : chunks_) made += c != nullptr;
        return chunks_.size() * sizeof(chunks_[0]) + made * sizeof(std::array<T, chunk>);
    }

  private:
    static constexpr std::size_t chunk = 256;
    std::vector<std::unique_ptr<std::array<T, chunk>>> chunks_;
    T none_{};
};

}  // namespace escultura::lattice
