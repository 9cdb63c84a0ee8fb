// What a destination that is connected to still has, held against what it accepted: one that was restored, or a spool that
// was damaged or is a copy.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "agent/engine/delivery.h"
#include "core/bytes.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

constexpr auto kNoteAgain = 100ms;

// Of the state `accepted/...`.
LogNumber accepted_number(std::string_view state) {
  ByteReader r(state);
  LogNumber number;
  number.epoch = r.varint();
  number.number = r.varint();
  return number;
}

}  // namespace

std::string DeliveryThread::accepted_key() const { return "accepted/" + std::to_string(id_); }
std::string DeliveryThread::again_key() const { return "again/" + std::to_string(id_); }

// What the destination is done with: the cursor, unless it is being sent again what lies before that.
std::uint64_t DeliveryThread::resume() const {
  const std::uint64_t cursor = spool_.cursor(id_);
  return sent_again_ ? std::min(*sent_again_, cursor) : cursor;
}

// Whether the destination still has what it accepted, and the spool what the destination has.
void DeliveryThread::compare(const Delivery& connected) {
  const LogNumber held = *connected.held;
  if (connected.stored) stored_.told(*connected.stored);
  // It may have taken what is damaged now; what is not comes again, and only then does its count agree.
  if (const auto& found = spool_.recovery();
      held.epoch < spool_.identity().epoch &&
      (found.damaged_records != 0 || found.cut_records != 0 || found.passes_over_cut))
    had_before_damage_ = held.number;
  if (const std::uint64_t last = spool_.recovery().last_record;
      held.epoch < spool_.identity().epoch && held.number > last) {
    stored_.explained();
    problems_.set(
        "destination " + name_ + ": ahead",
        fmt::format("the destination has the records {} to {} of this spool, which lacks them (its end was "
                    "damaged, or cut, or it is an older copy): what their sources read again comes again",
                    last + 1, held.number));
  }
  const auto known = spool_.state(accepted_key());
  if (known && held < accepted_number(*known)) {
    rewind_to_ = held;
    taken_ahead_.clear();
  } else if (const StateChange* unpassed = accepted_since();
             unpassed && held < accepted_number(unpassed->value)) {
    start_over_ = true;
    taken_ahead_.clear();
    spool_.count({{counter("rewound"), 1}});
    problems_.note(
        "destination " + name_,
        "the destination lost what it had taken a moment before (restored from a backup?): that is "
        "sent again");
  } else if (!known) {
    return;
  } else if (const std::uint64_t fewer = sent_again_ ? 0 : stored_.fewer()) {
    stored_.explained();
    problems_.set(
        "destination " + name_ + ": fewer",
        fmt::format("the destination has {} event{} fewer than it had stored, and the newest are there: "
                    "was a part of it restored, or moved away?",
                    fewer, fewer == 1 ? "" : "s"));
  }
}

// What it took and the spool's state does not say yet; nullptr: nothing, or it is being sent again what it lost.
const StateChange* DeliveryThread::accepted_since() const {
  if (sent_again_) return nullptr;
  if (!progress_.empty()) return &progress_.front();
  for (auto d = deferred_.rbegin(); d != deferred_.rend(); ++d)
    if (!d->changes.state.empty()) return &d->changes.state.front();
  return nullptr;
}

// The destination was restored: it is sent again what the spool still has. Answers where reading goes on.
std::uint64_t DeliveryThread::rewind(std::set<std::pair<std::uint64_t, std::uint32_t>>& kept) {
  const LogNumber held = *std::exchange(rewind_to_, std::nullopt);
  const std::uint64_t from = held.number == 0 ? 0 : held.number - 1;  // of that record a part may be missing
  kept = letters_.kept_behind(id_, from);
  const std::uint64_t first = spool_.first_record();
  std::string text =
      "the destination holds less than it accepted once (restored from a backup?): what the spool still "
      "has is sent again";
  if (first > held.number + 1 && (gaps_.empty() || gaps_.rbegin()->second < first - 1))
    gaps_[held.number + 1] = first - 1;
  const char* before = "; the records ";
  for (const auto& [begin, end] : gaps_)
    text += std::exchange(before, ", ") + std::to_string(begin) + " to " + std::to_string(end);
  if (!gaps_.empty()) text += " are not in the spool any more";
  problems_.set("destination " + name_ + ": restored", text);
  // Durable before anything is sent: what it has again says only up to which record it has something, and the cursor is beyond.
  std::string value;
  ByteWriter(value).varint(from);
  while (spool_.note({{{again_key(), value, false}}, {}}) != 0 && wait(kNoteAgain)) {
  }
  while (!stopping_ && !spool_.wait_durable(kNoteAgain)) {
  }
  spool_.passed(id_, 0, {{}, {{counter("rewound"), 1}}});
  sent_again_ = from;
  return from;
}

// A run before ended while it was sent again what it had lost: from there.
void DeliveryThread::go_on_sending_again() {
  const auto known = spool_.state(again_key());
  if (!known) return;
  ByteReader r(*known);
  sent_again_ = r.varint();
}

void DeliveryThread::sent_again() {
  sent_again_.reset();
  gaps_.clear();
  spool_.passed(id_, 0, {{{again_key(), "", true}}, {}});
}

}  // namespace dingle
