// What is kept and told of an event whose line another pipeline hides: nothing of its content, unless it is sealed.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>

#include "agent/destinations/destination.h"
#include "agent/engine/letters.h"
#include "core/result.h"
#include "core/steps/sealing.h"

namespace dingle {

// Makes `letter.event` and `letter.record` from an event: the shape of its text, and what the program itself says of it. With a key the
// record is the whole event, sealed, and `event` has the sealed text as `dingle.held`.
void conceal(Letter& letter, const SpooledEvent& event, const Sealing* holder);

// A letter's record as the spool has it. `key`: the place of the secret. A problem if it is sealed, and cannot be opened with that.
Result<std::string> opened_record(const Letter& letter, const std::string& key);
bool is_sealed(const Letter& letter);

// Takes words of at least four bytes out of a destination's reasons that stand in those of its events that are hidden elsewhere. Nothing is
// taken where it is down or busy and judged nothing.
void hide_content(std::span<const DeliveryEvent> events, Delivery& delivery);

}  // namespace dingle
