// Random templates from a grammar on random and mutated lines, against the reference; chance comes from the
// input.
#include <cstdio>
#include <cstdlib>

#include "tests/core/template_difference.h"

namespace {

class Bytes final : public dingle::TemplateGrammar {
 public:
  Bytes(const std::uint8_t* data, std::size_t size) : data_(data), size_(size) {}
  unsigned below(unsigned n) override {
    // Behind the input's end chance goes on from a simple generator seeded by what was read.
    state_ = state_ * 6364136223846793005ull + 1442695040888963407ull + (at_ < size_ ? data_[at_++] : 0);
    return static_cast<unsigned>((state_ >> 33) % n);
  }

 private:
  const std::uint8_t* data_;
  std::size_t size_, at_ = 0;
  std::uint64_t state_ = 1;
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static dingle::Differences differences;
  Bytes bytes(data, size);
  for (int i = 0; i < 8; ++i)
    if (const std::string difference = differences.try_one(bytes, 16); !difference.empty()) {
      std::fprintf(stderr, "%s\n", difference.c_str());
      std::abort();
    }
  return 0;
}
