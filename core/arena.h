// A bump allocator for what lives as long as one batch: fields, decoded text. Nothing is freed singly.
// Not thread-safe; owned by one batch. An allocation costs a few instructions. Blocks of 64 KiB are kept for
// the next arena of the thread, up to 4 MiB, so that batch after batch does not fetch fresh pages from the
// system.
#pragma once

#include <cstddef>
#include <cstring>
#include <memory>
#include <string_view>
#include <utility>
#include <vector>

#include "core/names.h"

namespace dingle {

class Arena {
 public:
  Arena() = default;
  Arena(Arena&& other) noexcept { *this = std::move(other); }
  Arena& operator=(Arena&& other) noexcept {
    release();
    blocks_ = std::exchange(other.blocks_, {});
    next_ = std::exchange(other.next_, nullptr);
    left_ = std::exchange(other.left_, 0);
    names_ = std::move(other.names_);
    return *this;
  }
  ~Arena() { release(); }

  // `size` bytes, aligned to 8, valid until the arena is destroyed. Their contents are not initialised.
  void* allocate(std::size_t size) {
    size = (size + 7) & ~std::size_t{7};
    if (size > left_) grow(size);
    void* result = next_;
    next_ += size;
    left_ -= size;
    return result;
  }

  // Of names that came with the data of this batch.
  NameDictionary& names() {
    if (!names_) names_ = std::make_shared<NameDictionary>();
    return *names_;
  }
  // Uses the other's dictionary, which both keep.
  void share_names(Arena& other) {
    other.names();
    names_ = other.names_;
  }

  std::size_t bytes() const {  // that it takes
    std::size_t all = 0;
    for (const Block& block : blocks_) all += block.size;
    return all;
  }

  std::string_view copy(std::string_view text) {
    if (text.empty()) return {};
    char* to = static_cast<char*>(allocate(text.size()));
    std::memcpy(to, text.data(), text.size());
    return {to, text.size()};
  }

 private:
  struct Block {
    std::unique_ptr<char[]> bytes;
    std::size_t size;
  };
  static std::vector<std::unique_ptr<char[]>>& spare() {
    thread_local std::vector<std::unique_ptr<char[]>> blocks;
    return blocks;
  }
  void grow(std::size_t size) {
    left_ = size > kBlock ? size : kBlock;
    if (left_ == kBlock && !spare().empty()) {
      blocks_.push_back({std::move(spare().back()), kBlock});
      spare().pop_back();
    } else {
      blocks_.push_back({std::make_unique_for_overwrite<char[]>(left_), left_});
    }
    next_ = blocks_.back().bytes.get();
  }
  void release() {
#if defined(__SANITIZE_ADDRESS__)
    constexpr std::size_t kMostSpare = 0;  // what is used after its batch must be found
#else
    constexpr std::size_t kMostSpare = 64;
#endif
    for (Block& block : blocks_)
      if (block.size == kBlock && spare().size() < kMostSpare) spare().push_back(std::move(block.bytes));
    blocks_.clear();
  }

  static constexpr std::size_t kBlock = 64 * 1024;
  std::vector<Block> blocks_;
  char* next_ = nullptr;
  std::size_t left_ = 0;
  std::shared_ptr<NameDictionary> names_;
};

}  // namespace dingle
