// Times as a person reads and writes them, in the zone that was chosen; always marked with it.
#pragma once

#include <cstdint>
#include <string>

#include "client/command.h"

namespace dingle {

// 2026-11-23 11:00:00.125+01:00, and Z for UTC. `instant`: ns since 1970 UTC.
std::string shown_time(const Client& client, std::int64_t instant);
// The same of a text by RFC 3339; what is none is answered as it is, on one line.
std::string shown_time(const Client& client, const std::string& text);
// To the second: 2026-11-23 11:00:00+01:00.
std::string shown_second(const Client& client, const std::string& text);
// "+01:00" or "Z": what the zone is ahead of UTC at that moment.
std::string shown_offset(const Client& client, std::int64_t instant);
// A time that was asked for: one without a zone is in the chosen one. What is none (15m) is answered as it is.
std::string asked_time(const Client& client, const std::string& text);

}  // namespace dingle
