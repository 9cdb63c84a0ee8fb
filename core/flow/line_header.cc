#include "core/flow/line_header.h"

#include <algorithm>
#include <cstdlib>
#include <map>

#include "core/severity.h"
#include "core/template/library.h"

namespace dingle {

LineHeader::LineHeader(std::string_view pattern) {
  static const PatternLibrary library;
  std::vector<Problem> problems;
  ParameterReader none({}, std::string(pattern), problems);
  for (const FieldPattern& p : builtin_field_patterns())
    if (p.name == pattern) scan_ = p.prepare(none, {library, {}});
  if (scan_ == nullptr || scan_->columns().size() > kMost) std::abort();  // sources name what there is
  for (const FieldColumn& c : scan_->columns()) fields_.push_back(field_id(c.name));
}

const LineHeader* LineHeader::of(std::string_view pattern) {
  static const std::map<std::string_view, LineHeader> all = [] {
    std::map<std::string_view, LineHeader> made;
    made.emplace("syslog", LineHeader("syslog"));
    return made;
  }();
  const auto found = all.find(pattern);
  return found == all.end() ? nullptr : &found->second;
}

Value LineHeader::Reader::get(FieldId field) const {
  const Value own = own_.get(field);
  if (!own.absent() || header_ == nullptr) return own;
  if (field == names::severity_number) return severity_number(get(names::severity));
  const auto at = std::find(header_->fields_.begin(), header_->fields_.end(), field);
  if (at == header_->fields_.end()) return own;
  if (!std::exchange(read_, true)) {
    const std::string_view line = event_.body;
    MatchContext context;
    context.reference = event_.observed;
    context.readable = batch_.readable_behind(line);
    if (header_->scan_->scan(line.data(), line.data() + line.size(), context, "", values_.data()) == nullptr)
      values_.fill(Value());
  }
  return values_[static_cast<std::size_t>(at - header_->fields_.begin())];
}

}  // namespace dingle
