// The ticket gate of the tests: a configuration with one destination, and its lines.
#pragma once

#include <cstdio>
#include <string>

#include "tests/end_to_end/service.h"

namespace dingle {

// `destination`: YAML, four blanks deep, of the destination `d`.
inline std::string gate_configuration(const std::string& destination) {
  return R"(
sources:
  gate: { files: { paths: ['{dir}/logs/*.log'] }, resource: { service.name: ticket-gate } }
pipelines:
  gate:
    from: [gate]
    steps:
      - parse: { templates: ['{at:rfc3339} {client.address:ip} {user} {status:int}'] }
      - time: { field: at }
    to: [d]
destinations:
  d:
    retry: { first: 20ms, longest: 200ms }
)" + destination;
}

// A gate whose events are stored.
inline constexpr const char* kStoredGate = R"(
sources:
  gate: { files: { paths: ['{dir}/logs/*.log'] }, resource: { service.name: ticket-gate } }
pipelines:
  gate:
    from: [gate]
    steps:
      - parse: { templates: ['{client.address:ip} {status:int} {message}'] }
    to: [store]
destinations:
  store: { index: { name: 'gate-{day}' } }
)";

inline std::string gate_line(int n, const std::string& user = "anna") {
  char text[100];
  std::snprintf(text, sizeof text, "2026-11-%02dT10:00:%02dZ 192.0.2.%d ", 20 + n % 3, n % 60, n % 250);
  return text + user + " " + std::to_string(n) + "\n";
}
inline std::string gate_lines(int n) {
  std::string all;
  for (int i = 0; i < n; ++i) all += gate_line(i);
  return all;
}

}  // namespace dingle
