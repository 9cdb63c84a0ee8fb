#include "core/event.h"

#include <mutex>

namespace dingle {
namespace {

struct Spare {
  std::mutex mutex;
  std::vector<std::unique_ptr<char[]>> buffers;
};
Spare& spare() {
  static Spare* const the_one = new Spare;  // lives as long as the last buffer, whenever that is destroyed
  return *the_one;
}
#if defined(__SANITIZE_ADDRESS__)
constexpr std::size_t kMostSpare = 0;  // what is used after its batch must be found
#else
constexpr std::size_t kMostSpare = 16;
#endif

}  // namespace

LineBuffer::LineBuffer(std::size_t capacity_) : capacity(capacity_) {
  if (capacity == kUsual) {
    std::lock_guard lock(spare().mutex);
    if (!spare().buffers.empty()) {
      bytes = std::move(spare().buffers.back());
      spare().buffers.pop_back();
      return;
    }
  }
  bytes = std::make_unique_for_overwrite<char[]>(capacity + kPadding);
}

LineBuffer::~LineBuffer() {
  if (capacity != kUsual || !bytes) return;
  std::lock_guard lock(spare().mutex);
  if (spare().buffers.size() < kMostSpare) spare().buffers.push_back(std::move(bytes));
}

void LineBuffer::forget_spare() {
  std::lock_guard lock(spare().mutex);
  decltype(spare().buffers)().swap(spare().buffers);
}

}  // namespace dingle
