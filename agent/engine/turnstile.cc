#include "agent/engine/turnstile.h"

#include <algorithm>
#include <cstdlib>

#include "core/bytes.h"

namespace dingle {

std::vector<std::pair<std::uint32_t, Turnstile::Head>> Turnstile::all(const Spool& spool) {
  std::vector<std::pair<std::uint32_t, Head>> found;
  const std::string memory = "memory/";
  spool.whole_state().each_with_prefix(memory, [&](std::string_view key, std::string_view value) {
    if (key.find('/', memory.size()) != key.size() - 1) return;  // not a head
    ByteReader in(value);
    Head head;
    head.serial = in.varint();
    head.meaning = in.text();
    const std::string id(key.substr(memory.size()));
    found.emplace_back(static_cast<std::uint32_t>(std::strtoul(id.c_str(), nullptr, 10)), std::move(head));
  });
  return found;
}

namespace {

std::string serial_key(std::uint32_t id) { return "serial/" + std::to_string(id); }

StateChange kept_serial(std::uint32_t id, std::uint64_t serial) {
  std::string bytes;
  ByteWriter(bytes).varint(serial);
  return {serial_key(id), bytes, false};
}

}  // namespace

Turnstile::Turnstile(std::uint32_t id, const MemoryStep& step, std::shared_ptr<const Turnstile> before)
    : id_(id), meaning_(step.meaning()), before_(std::move(before)), memory_(step.begin()) {}

std::optional<std::uint64_t> Turnstile::recall(const Spool& spool, const MemoryStep& step, std::int64_t now) {
  memory_ = step.begin();
  bool told = false;  // what the entries mean
  std::uint64_t unreadable = 0;
  if (const auto serial = spool.state(serial_key(id_))) memory_->serial = ByteReader(*serial).varint();
  const PackedMap state = spool.whole_state();
  const std::string prefix = Turnstile::prefix(id_);
  if (std::string head; state.find(prefix, head)) {
    ByteReader in(head);
    memory_->serial = std::max(memory_->serial, in.varint());
    told = in.text() == meaning_;
    if (!told) return std::nullopt;
  }
  state.each_with_prefix(prefix, [&](std::string_view key, std::string_view value) {
    if (key.size() > prefix.size())
      unreadable += !told || !step.restore(*memory_, key.substr(prefix.size()), value, now);
  });
  look();
  return unreadable;
}

std::string Turnstile::head() const {
  std::string bytes;
  ByteWriter out(bytes);
  out.varint(memory_->serial);
  out.text(meaning_);
  return bytes;
}

void Turnstile::look() {
  const StepMemory::Size size = memory_->size();
  entries_ = size.entries, bytes_ = size.bytes, held_ = size.held;
  next_due_ = memory_->next_due();
}

void Turnstile::enter() {
  if (before_) memory_->serial = std::max(memory_->serial, before_->memory_->serial);
  before_.reset();
}

void Turnstile::turn(Work& work, std::int64_t now, CounterId held, Changes& changes) {
  const auto held_before = static_cast<std::int64_t>(memory_->size().held);
  Turn turn;
  turn.now = now;
  work.turn(*memory_, turn);
  for (StepMemory::Change& c : turn.changes)
    changes.state.push_back({prefix(id_) + c.key, c.value ? std::move(*c.value) : "", !c.value.has_value()});
  // Every time: a damaged record must not take with it what says what all the others mean.
  if (!turn.changes.empty()) changes.state.push_back({prefix(id_), head(), false});
  if (turn.why == Turn::Why::everything) {  // another one may take its place
    changes.state.push_back({prefix(id_), "", true});
    if (memory_->serial != 0) changes.state.push_back(kept_serial(id_, memory_->serial));
  }
  // By what the memory says, which knows nothing of what steps count.
  if (const auto now_held = static_cast<std::int64_t>(memory_->size().held); now_held != held_before)
    changes.counters.push_back({held, now_held - held_before});
  look();
}

Changes Turnstile::removal(const Spool& spool, std::uint32_t id, std::uint64_t& entries) {
  Changes changes;
  entries = 0;
  spool.whole_state().each_with_prefix(prefix(id), [&](std::string_view key, std::string_view value) {
    changes.state.push_back({std::string(key), "", true});
    entries += key != prefix(id);
    if (key != prefix(id)) return;
    if (const std::uint64_t serial = ByteReader(value).varint(); serial != 0)
      changes.state.push_back(kept_serial(id, serial));
  });
  return changes;
}

}  // namespace dingle
