// Counting texts by shape, over two periods: what is new, what is gone.
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

namespace dingle {

// Texts of one shape (shape_of in tokens.h).
struct CountedShape {
  std::string shape;
  std::array<std::uint64_t, 2> count{};  // by period
  std::array<std::string, 2> example{};  // at most kLongestExample bytes
  static constexpr std::size_t kLongestExample = 300;
};

// Most texts cost a look over their beginning: those that differ in digits alone are known again. Bounded: at most kMostShapes are told apart.
class ShapeCount {
 public:
  static constexpr std::size_t kMostShapes = 20'000;
  // `period`: 0 or 1. `reference`: ns since 1970 UTC, for times without a year.
  void add(std::string_view text, std::int64_t reference, unsigned period, std::uint64_t times = 1);
  void take(ShapeCount&& other);
  // Shapes; those that differ in one word of many are one, with `{word}` there.
  std::vector<CountedShape> shapes() const;
  const std::array<std::uint64_t, 2>& others() const {
    return others_;
  }  // texts of shapes that there was no room for

 private:
  struct Kept {
    CountedShape counted;
    std::vector<std::string> pieces;  // the shape's
    std::vector<bool> words;          // by piece: it is a word of the text
  };
  Kept* kept(std::string_view text, std::int64_t reference);
  Kept* found(std::string_view text, std::int64_t reference);
  // By the beginning of texts, without what their digits say; and the last ones of all by that with each digit a zero, which is
  // made faster, and tells numbers of different lengths apart.
  std::unordered_map<std::uint64_t, Kept*> known_;
  struct Recent {
    std::uint64_t key = 0;
    Kept* kept = nullptr;
  };
  std::vector<Recent> recent_ = std::vector<Recent>(8192);
  std::unordered_map<std::string, Kept> shapes_;
  std::array<std::uint64_t, 2> others_{};
  std::string beginning_;
};

}  // namespace dingle
