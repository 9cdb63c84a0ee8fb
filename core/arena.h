// A bump allocator for what lives as long as one batch: fields, decoded text. Nothing is freed singly.
// Not thread-safe; owned by one batch. An allocation costs a few instructions; one malloc per 64 KiB.
#pragma once

#include <cstddef>
#include <cstring>
#include <memory>
#include <string_view>
#include <vector>

namespace dingle {

class Arena {
 public:
  Arena() = default;
  Arena(Arena&&) = default;
  Arena& operator=(Arena&&) = default;

  // `size` bytes, aligned to 8, valid until the arena is destroyed. Their contents are not initialised.
  void* allocate(std::size_t size) {
    size = (size + 7) & ~std::size_t{7};
    if (size > left_) grow(size);
    void* result = next_;
    next_ += size;
    left_ -= size;
    return result;
  }

  std::string_view copy(std::string_view text) {
    if (text.empty()) return {};
    char* to = static_cast<char*>(allocate(text.size()));
    std::memcpy(to, text.data(), text.size());
    return {to, text.size()};
  }

 private:
  void grow(std::size_t size) {
    left_ = size > kBlock ? size : kBlock;
    blocks_.push_back(std::make_unique_for_overwrite<char[]>(left_));
    next_ = blocks_.back().get();
  }

  static constexpr std::size_t kBlock = 64 * 1024;
  std::vector<std::unique_ptr<char[]>> blocks_;
  char* next_ = nullptr;
  std::size_t left_ = 0;
};

}  // namespace dingle
