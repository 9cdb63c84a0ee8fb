#include "core/event.h"

#include <bitset>
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

std::size_t Batch::take(Event& event, std::span<const Field> more) {
  std::size_t lost = 0;
  const bool room = event.reserve(arena, more.size());
  const std::span<const Field> resource = resource_of(event);
  std::uint64_t of_resource = 0;
  for (const Field& f : resource) of_resource |= bit_of(f.name);
  // By the last bits of the names; enough of them for a wide event.
  constexpr std::size_t kBits = 512;
  const auto place = [](FieldId id) {
    return reinterpret_cast<std::uintptr_t>(id) / sizeof(FieldName) % kBits;
  };
  std::bitset<kBits> seen;
  if (event.field_count != 0) seen.set();
  for (const Field& f : more) {
    FieldId name = f.name;
    if ((of_resource & bit_of(name)) &&
        std::any_of(resource.begin(), resource.end(), [&](const Field& r) { return r.name == name; }))
      name = arena.names().id(std::string(kForeignPrefix).append(field_name(name)));
    if (room && name != kNoField && !seen.test(place(name))) {
      event.fields[event.field_count++] = {name, f.value};  // surely not there yet
      seen.set(place(name));
    } else {
      lost += !event.set(arena, name, f.value);
    }
  }
  return lost;
}

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
