#include "agent/sources/line_splitter.h"

#include <algorithm>
#include <cstring>

namespace dingle {

Split split(std::string_view chunk, const SplitSettings& settings, bool skipping, bool ends, bool closes) {
  Split out;
  std::size_t at = 0;
  if (skipping) {
    const std::size_t newline = chunk.find('\n');
    if (newline == std::string_view::npos) {
      out.consumed = out.cut_bytes = chunk.size();
      out.skipping = true;
      return out;
    }
    out.cut_bytes = newline;
    out.consumed = at = newline + 1;
  }
  Arena arena;
  const MatchContext context{&arena, 0};
  std::vector<Value> values;  // of what is matched, if anything is
  auto matches = [&](const Template& t, std::string_view line) {
    if (values.size() < t.value_count()) values.resize(t.value_count());
    return t.match(line, context, values.data());
  };
  bool in_quotes = false;  // at the end of events.back()
  auto goes_on = [&](std::string_view line) {
    return in_quotes || (settings.starts_with && !matches(*settings.starts_with, line)) ||
           (settings.indented && !line.empty() && (line[0] == ' ' || line[0] == '\t')) ||
           (settings.continues_with && matches(*settings.continues_with, line));
  };
  auto may_go_on = [&](std::string_view line) {
    if (settings.quoted && std::count(line.begin(), line.end(), '"') % 2 != 0) in_quotes = !in_quotes;
    return in_quotes || settings.any_may_go_on();
  };
  bool open = false;  // events.back() may go on
  std::size_t open_lines = 0;
  while (at < chunk.size()) {
    const void* found = std::memchr(chunk.data() + at, '\n', chunk.size() - at);
    std::size_t end =
        found ? static_cast<std::size_t>(static_cast<const char*>(found) - chunk.data()) : chunk.size();
    std::size_t next = found ? end + 1 : end;
    bool cut = false;
    if (end - at > settings.longest_line) {
      cut = true;
      end = at + settings.longest_line;
      if (found) {
        out.cut_bytes += next - 1 - end;
      } else {
        out.cut_bytes += chunk.size() - end;
        out.skipping = true;
      }
    } else if (!found && !ends) {
      break;  // not whole yet
    }
    std::string_view line = chunk.substr(at, end - at);
    if (!cut && !line.empty() && line.back() == '\r') line.remove_suffix(1);
    ++out.lines;
    out.cut += cut;
    const bool joins = open && open_lines < settings.most_lines &&
                       end - out.events.back().position <= settings.most_bytes && goes_on(line);
    if (joins) {
      SourceLine& event = out.events.back();
      event.text = std::string_view(event.text.data(),
                                    static_cast<std::size_t>(line.data() + line.size() - event.text.data()));
      ++out.merged;
      ++open_lines;
      open = may_go_on(line);
    } else if (line.empty()) {
      ++out.empty;
      open = false;
    } else {
      out.events.push_back({line, at});
      in_quotes = false;
      open = may_go_on(line);
      open_lines = 1;
    }
    at = next;
    if (out.skipping) break;
  }
  out.consumed = at;
  const bool whole = at == chunk.size();
  if (open && !ends && !(closes && whole) &&
      !out.skipping) {  // the last event may go on: it stays for the next time
    out.consumed = out.events.back().position;
    out.events.pop_back();
    out.lines -= open_lines;
    out.merged -= open_lines - 1;
  }
  return out;
}

}  // namespace dingle
