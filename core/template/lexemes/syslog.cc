// The priority of a syslog message, taken apart.
#include "core/template/lexemes/parts.h"

namespace dingle {
namespace {

// RFC 5424, section 6.2.1: eight times the facility and the severity, 0 to 191 without leading zeros. The severities have the
// words of its table 2 (info for informational), by which events get their severity number (OpenTelemetry logs data model, appendix B).
class SyslogPriority final : public FieldScan {
 public:
  SyslogPriority() { columns_ = {{"syslog.facility", Kind::integer}, {"severity", Kind::text}}; }
  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view,
                   Value* columns) const override {
    constexpr std::string_view kSeverities[] = {"emergency", "alert",  "critical", "error",
                                                "warning",   "notice", "info",     "debug"};
    Value number;
    const char* behind = digits_only(at, end) ? scan_integer(at, end, context, nullptr, number) : nullptr;
    if (behind == nullptr || number.as_integer() > 191) return nullptr;
    columns[0] = Value::integer(number.as_integer() / 8);
    columns[1] = Value::text(kSeverities[number.as_integer() % 8]);
    return behind;
  }

 private:
  static bool digits_only(const char* at, const char* end) {
    return at != end && is_digit(*at) && (*at != '0' || end - at == 1 || !is_digit(at[1]));
  }
};

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
      [](ParameterReader&, const FieldScanMaking&) -> std::shared_ptr<const FieldScan> {
        return std::make_shared<SyslogPriority>();
      }};
}

}  // namespace dingle
