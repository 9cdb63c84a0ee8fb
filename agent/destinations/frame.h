// The bodies of bulk requests: texts with `${...}` in them, put around and between events.
//
//   ${event}        the event as one JSON object
//   ${name}         a field as JSON: "text" with its quotes, 12, null
//   ${name:text}    a field as text, escaped to stand within a JSON string
//   ${count}        how many events the body holds
//   $$              a dollar sign
#pragma once

#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "agent/destinations/rendering.h"
#include "core/result.h"

namespace dingle {

// Immutable.
class FrameText {
 public:
  static Result<FrameText> parse(std::string_view text);
  void append(const Rendering& rendering, const SpooledEvent& event, std::size_t count,
              std::string& out) const;
  // For URLs: values as plain text, percent-encoded (RFC 3986).
  std::string url(const Rendering& rendering, const SpooledEvent& event) const;
  std::vector<std::string> fields() const;  // that it names
  bool empty() const { return pieces_.empty(); }

 private:
  struct Piece {
    std::string literal;
    enum class Form { none, event, value, text, count } form = Form::none;  // what follows the literal
    std::string field;
  };
  std::vector<Piece> pieces_;
};

// What stands before all events, before each, the event itself, between two, and behind all.
struct Frame {
  FrameText begin, before, event, between, end;
  // Written over `out`, whose memory is used again.
  void body(const Rendering& rendering, std::span<const SpooledEvent* const> events, std::string& out) const;
};

}  // namespace dingle
