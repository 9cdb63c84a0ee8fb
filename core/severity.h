// Severities: their words, in whatever case, and the numbers of the OpenTelemetry logs data model ("SeverityNumber", 1 to 24).
#pragma once

#include <string_view>

#include "core/value.h"

namespace dingle {

int level_number(std::string_view lower_case_word);  // 0: it is no severity
// True, and the number, if the text is a severity's word.
bool severity_number_of(std::string_view word, int& number);
// The number of what `severity` holds: a word, or syslog's number (RFC 5424, table 2), 0 to 7. Absent if it is neither.
Value severity_number(const Value& severity);

}  // namespace dingle
