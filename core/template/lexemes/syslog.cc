// The priority of a syslog message, and its whole header, taken apart.
#include <algorithm>

#include "core/template/lexemes/parts.h"

namespace dingle {
namespace {

// RFC 5424, section 6.2.1: eight times the facility and the severity, 0 to 191 without leading zeros. The severities have the
// words of its table 2 (info for informational), by which events get their severity number (OpenTelemetry logs data model, appendix B).
const char* scan_priority(const char* at, const char* end, const MatchContext& context, Value& facility,
                          Value& severity) {
  constexpr std::string_view kSeverities[] = {"emergency", "alert",  "critical", "error",
                                              "warning",   "notice", "info",     "debug"};
  const bool digits = at != end && is_digit(*at) && (*at != '0' || end - at == 1 || !is_digit(at[1]));
  Value number;
  const char* behind = digits ? scan_integer(at, end, context, nullptr, number) : nullptr;
  if (behind == nullptr || number.as_integer() > 191) return nullptr;
  facility = Value::integer(number.as_integer() / 8);
  severity = Value::text(kSeverities[number.as_integer() % 8]);
  return behind;
}

Value process_id(std::string_view text, const MatchContext& context) {
  return std::all_of(text.begin(), text.end(), is_digit) ? guessed_value(text, context) : Value::text(text);
}

class SyslogPriority final : public FieldScan {
 public:
  SyslogPriority() { columns_ = {{"syslog.facility", Kind::integer}, {"severity", Kind::text}}; }
  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view,
                   Value* columns) const override {
    return scan_priority(at, end, context, columns[0], columns[1]);
  }
};

// Both forms: RFC 5424, section 6, and what RFC 3164 found in use, section 4.1, also with full times and, as in files, without a
// priority. Reads up to the space before the message.
class SyslogHeader final : public FieldScan {
 public:
  SyslogHeader() {
    columns_ = {{"syslog.facility", Kind::integer},    {"severity", Kind::text},
                {"syslog.timestamp", Kind::timestamp}, {"host.name", Kind::text},
                {"syslog.app_name", Kind::text},       {"syslog.proc_id", Kind::text},
                {"syslog.msg_id", Kind::text},         {"syslog.structured_data", Kind::text}};
  }
  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view,
                   Value* columns) const override {
    Way way{at, end, context, columns, ""};
    return way.header() ? way.at : nullptr;
  }
  Failure why(const char* at, const char* end, const MatchContext& context) const override {
    Value columns[8];
    Way way{at, end, context, columns, ""};
    way.header();
    return {way.at, way.expected};
  }

 private:
  enum Column { facility, severity, timestamp, host, app, proc, msg, data };
  struct Way {
    const char *at, *end;
    const MatchContext& context;
    Value* columns;
    const char* expected;

    bool fails(const char* what) { return expected = what, false; }
    bool is(char c) const { return at != end && *at == c; }
    bool space() { return is(' ') ? (++at, true) : fails("a space"); }
    std::string_view word() {
      const char* from = at;
      while (at != end && *at != ' ') ++at;
      return {from, static_cast<std::size_t>(at - from)};
    }
    bool time(const char* name) {
      static const LexemeScan full = builtin_lexeme("rfc3339")->scan,
                              short_one = builtin_lexeme("syslog_time")->scan;
      const char* behind = (name[0] == 'r' ? full : short_one)(at, end, context, nullptr, columns[timestamp]);
      if (behind != nullptr) at = behind;
      return behind != nullptr;
    }
    bool header() {
      if (!is('<')) return old_form();
      ++at;
      const char* behind = scan_priority(at, end, context, columns[facility], columns[severity]);
      if (behind == nullptr || behind == end || *behind != '>') return fails("a priority such as <165>");
      at = behind + 1;
      return end - at >= 2 && at[0] == '1' && at[1] == ' ' ? (at += 2, new_form()) : old_form();
    }
    // A part that is a word, or `-` where it is not known.
    bool part(Column column, const char* what) {
      const std::string_view text = word();
      if (text.empty()) return fails(what);
      if (text != "-") columns[column] = column == proc ? process_id(text, context) : Value::text(text);
      return true;
    }
    bool new_form() {
      if (is('-'))
        ++at;
      else if (!time("rfc3339"))
        return fails("a time such as 2026-11-23T10:00:00Z, or -");
      return space() && part(host, "a host's name, or -") && space() && part(app, "a program's name, or -") &&
             space() && part(proc, "a process's id, or -") && space() && part(msg, "a message's id, or -") &&
             space() && structured();
    }
    bool structured() {
      if (is('-')) return ++at, true;
      const char* from = at;
      while (is('[')) {
        bool quoted = false;
        for (++at; at != end && (quoted || *at != ']'); ++at) {
          if (*at == '\\' && quoted && at + 1 != end)
            ++at;
          else if (*at == '"')
            quoted = !quoted;
        }
        if (at == end) return fails("a `]` that ends the structured data");
        ++at;
      }
      if (at == from) return fails("structured data, or -");
      columns[data] = text_between(from, at);
      return true;
    }
    bool old_form() {
      if (!time("syslog_time") && !time("rfc3339")) return fails("a time such as Nov 23 10:00:00");
      if (!space()) return false;
      const char* before = at;
      if (tag()) return true;  // no host stands before it
      at = before;
      if (!part(host, "a host's name")) return false;
      before = at;
      if (at == end || (++at, !tag())) at = before;
      return true;
    }
    // A program's name with its process's id, if there is one, and a colon.
    bool tag() {
      const char* from = at;
      while (at != end && *at != ' ' && *at != '[' && *at != ':') ++at;
      const char* to = at;
      if (to == from) return false;
      Value id;
      if (is('[')) {
        const char* open = ++at;
        while (at != end && *at != ']' && *at != ' ') ++at;
        if (!is(']')) return false;
        id = process_id({open, static_cast<std::size_t>(at - open)}, context);
        ++at;
      }
      if (!is(':') || (at + 1 != end && at[1] != ' ')) return false;
      ++at;
      columns[app] = text_between(from, to);
      columns[proc] = id;
      return true;
    }
  };
};

// W3C Trace Context, section 3.2.
class TraceParent final : public FieldScan {
 public:
  TraceParent() {
    columns_ = {{"trace_id", Kind::text}, {"span_id", Kind::text}, {"trace_flags", Kind::text}};
  }
  const char* scan(const char* at, const char* end, const MatchContext&, std::string_view,
                   Value* columns) const override {
    constexpr std::ptrdiff_t kLength = 55;
    if (end - at < kLength || at[2] != '-' || at[35] != '-' || at[52] != '-' ||
        (at[0] == 'f' && at[1] == 'f'))
      return nullptr;
    for (std::ptrdiff_t i = 0; i < kLength; ++i)
      if (i != 2 && i != 35 && i != 52 && !(is_hex(at[i]) && at[i] != static_cast<char>(at[i] & ~0x20)))
        return nullptr;
    if (end - at > kLength && is_hex(at[kLength])) return nullptr;
    columns[0] = text_between(at + 3, at + 35);
    columns[1] = text_between(at + 36, at + 52);
    columns[2] = text_between(at + 53, at + 55);
    return at + kLength;
  }
};

template <class Scan>
std::shared_ptr<const FieldScan> make(ParameterReader&, const FieldScanMaking&) {
  return std::make_shared<Scan>();
}

}  // namespace

FieldPattern syslog_priority_pattern() {
  return {
      "syslog_priority",
      classes::digits(),
      false,
      "the priority of a syslog message, 0 to 191: `syslog.facility` as a number, and `severity` as its word",
      "165\n0",
      "192",
      "",
      make<SyslogPriority>};
}

FieldPattern syslog_pattern() {
  return {"syslog",
          classes::digits() | classes::letters() | ByteClass::of("<"),
          false,
          "the header of a syslog message in either form (RFC 5424, RFC 3164): `syslog.facility`, "
          "`severity`, `syslog.timestamp`, "
          "`host.name`, `syslog.app_name`, `syslog.proc_id`, `syslog.msg_id`, `syslog.structured_data`; `-` "
          "is absent",
          "<34>Nov 23 10:00:00 quay-1 gate[71]:\n<165>1 2026-11-23T10:00:00.5Z quay-1 gate 71 SCAN -\nNov 23 "
          "10:00:00 quay-1 gate:",
          "<192>Nov 23 10:00:00 quay-1 gate:",
          "",
          make<SyslogHeader>};
}

FieldPattern traceparent_pattern() {
  return {"traceparent",
          classes::hex(),
          false,
          "a `traceparent` of W3C Trace Context: `trace_id`, `span_id`, `trace_flags`",
          "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01",
          "00-4bf92f35-00f067aa-01",
          "",
          make<TraceParent>};
}

}  // namespace dingle
