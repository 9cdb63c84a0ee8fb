// Times as typed patterns.
#include "core/template/lexemes/parts.h"
#include "core/time/formats.h"

namespace dingle {
namespace {

struct TimeSettings {
  TimeFormat format;
  bool has_format = false;
  DayOrder order = DayOrder::either;
  Zone zone;
  bool has_zone = false;
};

Value value_of(const ParsedTime& t, const TimeSettings* s) {
  if (t.zoneless && s != nullptr && s->has_zone) return Value::timestamp(s->zone.to_utc(t.nanoseconds));
  return Value::timestamp(t.nanoseconds, t.zoneless);
}

template <const char* (*Scan)(const char*, const char*, ParsedTime&)>
const char* plain(const char* at, const char* end, const MatchContext&, const void* settings, Value& out) {
  ParsedTime t;
  const char* p = Scan(at, end, t);
  if (p) out = value_of(t, static_cast<const TimeSettings*>(settings));
  return p;
}

template <const char* (*Scan)(const char*, const char*, std::int64_t, ParsedTime&)>
const char* near(const char* at, const char* end, const MatchContext& context, const void* settings,
                 Value& out) {
  ParsedTime t;
  const char* p = Scan(at, end, context.reference, t);
  if (p) out = value_of(t, static_cast<const TimeSettings*>(settings));
  return p;
}

const char* any(const char* at, const char* end, const MatchContext& context, const void* settings,
                Value& out) {
  const auto* s = static_cast<const TimeSettings*>(settings);
  ParsedTime t;
  const char* p = s != nullptr && s->has_format
                      ? s->format.scan(at, end, context.reference, t)
                      : scan_any_time(at, end, context.reference, s ? s->order : DayOrder::either, t);
  if (p) out = value_of(t, s);
  return p;
}

const char* day_first(const char* at, const char* end, const MatchContext&, const void* settings,
                      Value& out) {
  ParsedTime t;
  const char* p = scan_ordered_time(at, end, DayOrder::day_first, t);
  if (p) out = value_of(t, static_cast<const TimeSettings*>(settings));
  return p;
}

const char* month_first(const char* at, const char* end, const MatchContext&, const void* settings,
                        Value& out) {
  ParsedTime t;
  const char* p = scan_ordered_time(at, end, DayOrder::month_first, t);
  if (p) out = value_of(t, static_cast<const TimeSettings*>(settings));
  return p;
}

void read_zone(ParameterReader& parameters, TimeSettings& s) {
  const Parameter* p = parameters.named("zone");
  if (p == nullptr) return;
  auto zone = Zone::named(p->value);
  if (!zone) return parameters.bad(*p, zone.problem().message, zone.problem().hint);
  s.zone = *zone;
  s.has_zone = true;
}

void prepare_zone(ParameterReader& parameters, PreparedLexeme& lexeme) {
  auto s = std::make_shared<TimeSettings>();
  read_zone(parameters, *s);
  lexeme.settings = s;
}

// What a form of the user's own may start with: nothing is excluded but what surely cannot.
ByteClass first_of(const std::string& format) {
  using namespace classes;
  if (format.empty() || format[0] == ' ') return blanks();
  if (format[0] != '%') return ByteClass::of(format.substr(0, 1));
  const char c = format[1];
  if (c == 'b' || c == 'a' || c == 'p') return letters();
  if (c == 'z' || c == 'Z') return letters() | ByteClass::of("+-");
  if (c == '%') return ByteClass::of("%");
  return digits() | (c == 'd' || c == 'e' ? ByteClass::of(" ") : ByteClass());
}

void prepare_time(ParameterReader& parameters, PreparedLexeme& lexeme) {
  auto s = std::make_shared<TimeSettings>();
  read_zone(parameters, *s);
  if (const Parameter* p = parameters.named("order")) {
    if (p->value == "dmy")
      s->order = DayOrder::day_first;
    else if (p->value == "mdy")
      s->order = DayOrder::month_first;
    else
      parameters.bad(*p, "`" + p->value + "` is no order of day and month", "write order=dmy or order=mdy");
  }
  if (const Parameter* p = parameters.next_positional()) {
    auto format = TimeFormat::compile(p->value);
    if (!format) {
      parameters.bad(*p, format.problem().message, format.problem().hint);
    } else {
      s->format = *format;
      s->has_format = true;
      lexeme.first = first_of(s->format.text());
    }
  }
  lexeme.settings = s;
}

}  // namespace

void add_time_lexemes(std::vector<Lexeme>& all) {
  using namespace classes;
  constexpr const char* kZone = "zone=Europe/Stockholm, for times that name none";
  auto add = [&](const char* name, LexemeScan scan, ByteClass first, const char* description,
                 const char* example, const char* not_example) {
    all.push_back(
        {name, Kind::timestamp, scan, first, description, example, not_example, kZone, prepare_zone});
  };
  all.push_back(
      {"time", Kind::timestamp, any, letters() | digits() | ByteClass::of("@"), "a time in a common form",
       "2026-11-23T10:00:00Z\n23/Nov/2026:10:00:00 +0100\nNov 23 10:00:00\n11/23/2026 10:00:00 PM\n"
       "1795428000.125",
       "yesterday",
       "a form such as \"%d.%m.%y %H:%M\"; order=dmy or order=mdy; zone=Europe/Stockholm, for times that "
       "name none",
       prepare_time});
  add("rfc3339", plain<scan_rfc3339>, digits(), "a time such as 2026-11-23T10:00:00Z",
      "2026-11-23T10:00:00Z\n2026-11-23 10:00:00,125\n20261123T100000Z\n2026-11-23-10.00.00.125",
      "23.11.2026");
  add("clf_time", plain<scan_clf_time>, digits(), "a time such as 23/Nov/2026:10:00:00 +0100",
      "23/Nov/2026:10:00:00 +0100", "2026-11-23");
  add("syslog_time", near<scan_syslog_time>, letters(), "a time such as Nov 23 10:00:00",
      "Nov 23 10:00:00\nFeb  3 04:05:06", "23 Nov");
  add("mail_time", plain<scan_mail_time>, letters() | digits(),
      "a time such as Mon, 23 Nov 2026 10:00:00 +0000",
      "Mon, 23 Nov 2026 10:00:00 +0000\n23-Nov-2026 10:00:00.125\nNov-23-26 10:00:00", "2026-11-23");
  add("ctime", plain<scan_ctime>, letters(), "a time such as Mon Nov 23 10:00:00 2026",
      "Mon Nov 23 10:00:00 2026\nMon Nov 23 10:00:00 UTC 2026", "Nov 23");
  add("slash_time", plain<scan_slash_time>, digits(), "a time such as 2026/11/23 10:00:00",
      "2026/11/23 10:00:00\n2026:11:23 10:00:00", "2026-11-23");
  add("dot_time", plain<scan_dot_time>, digits(), "a time such as 23.11.2026 10:00:00", "23.11.2026 10:00:00",
      "2026-11-23");
  add("day_first_time", day_first, digits(), "a time such as 23/11/2026 22:00:00",
      "23/11/2026 22:00:00\n03/04/2026 10:00:00 PM\n23-11-2026 22:00:00 +0100", "11/23/2026 10:00:00");
  add("month_first_time", month_first, digits(), "a time such as 11/23/2026 10:00:00 PM",
      "11/23/2026 10:00:00 PM\n3/4/2026 10:00:00", "23/11/2026 10:00:00");
  add("compact_time", plain<scan_compact_time>, digits(), "a time such as 261123 10:00:00",
      "261123 10:00:00\n261123  9:00:00\n261123 100000", "261323 10:00:00");
  add("yearless_time", near<scan_yearless_time>, digits(), "a time such as 11-23 10:00:00.125",
      "11-23 10:00:00.125", "23-11 10:00:00");
  add("clock_time", near<scan_clock_time>, digits(),
      "a time of day such as 10:00:00.125: of the day of reading, or one beside it if that is nearer",
      "10:00:00\n10:00:00,125", "24:00:00");
  add("tai64n", plain<scan_tai64n>, ByteClass::of("@"),
      "a TAI64N label, as writers make it that know no leap seconds", "@400000006b040eaa07735940",
      "@40000000");
  add("epoch", plain<scan_epoch_time>, digits(), "seconds (or milli-, micro-, nanoseconds) since 1970",
      "1795428000\n1795428000.125\n1795428000125", "17");
}

}  // namespace dingle
