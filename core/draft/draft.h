// Proposing templates for lines that nobody has described yet.
//
//   Draft draft = draft_templates(lines, now);
//   draft.templates[0].text;       // "{at:rfc3339} {severity:level} [{thread.name:thread_name}] {message}"
//   draft.templates[0].lines;      // 1 204 of the lines
//   draft.yaml();                  // a piece of configuration, to be pasted as it is
//
// Common layouts are recognised first (access logs, syslog, JSON, pairs, CSV). The other lines are grouped
// from left to right: what is the same in all of them becomes literal text, what is of one type a typed
// capture with a name taken from a key or word before it; where lines part into a few kinds, each gets a
// template, and where they part into many, the rest is free text, out of which addresses, ids, quoted names and pairs
// are picked. Every template that comes out was compiled
// and tried on the lines.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace dingle {

struct DraftTemplate {
  std::string text;
  std::size_t lines = 0;  // that it is the first to match
  std::string example;    // one of them
  std::string layout;     // the common layout that was recognised; "" if it was grouped
  std::size_t head = 0;   // bytes of `text` that it shares with others: one of Draft::heads
};

struct Draft {
  std::size_t lines = 0;  // that were looked at; joined ones count once
  std::vector<DraftTemplate> templates;
  // What three or more of them begin with, for a `parse` of its own; what stands behind it in them is for a second one that
  // takes the field `message` apart.
  std::vector<std::string> heads;
  std::vector<DraftTemplate> picks;  // small templates for `pick`, of values in the free text `message`
  bool json = false;                 // the lines are JSON objects: a `json` step, and no templates
  std::string join;        // options of a source's `join`, in YAML: several lines make one event; "" if not
  std::size_t joined = 0;  // lines that belong to the one before
  std::string time_field;  // that holds the time of the event; "" if there is none
  std::vector<std::string> notes;  // what was assumed and should be looked at
  std::size_t unexplained = 0;
  std::vector<std::string> unexplained_examples;  // at most ten

  std::string yaml() const;
};

// `now`: ns since 1970 UTC, for times without a year. At most 100 000 lines are looked at, spread over all of
// them; cost: some microseconds a line.
Draft draft_templates(const std::vector<std::string_view>& lines, std::int64_t now);

}  // namespace dingle
