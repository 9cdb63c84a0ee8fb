#include "agent/destinations/frame.h"

#include <fmt/format.h>

#include "core/json_text.h"
#include "core/template/library.h"

namespace dingle {

Result<FrameText> FrameText::parse(std::string_view text) {
  FrameText t;
  if (text.empty()) return t;
  t.pieces_.emplace_back();
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '$' || i + 1 == text.size()) {
      t.pieces_.back().literal += text[i];
      continue;
    }
    if (text[i + 1] == '$') {
      t.pieces_.back().literal += '$';
      ++i;
      continue;
    }
    if (text[i + 1] != '{') {
      t.pieces_.back().literal += '$';
      continue;
    }
    const std::size_t close = text.find('}', i);
    if (close == std::string_view::npos)
      return Problem{"the brace opened here is not closed", "for instance: ${body}", i, 2};
    std::string name(text.substr(i + 2, close - i - 2));
    Piece& piece = t.pieces_.back();
    piece.form = Piece::Form::value;
    if (name == "event") piece.form = Piece::Form::event;
    if (name == "count") piece.form = Piece::Form::count;
    if (name.ends_with(":text")) piece.form = Piece::Form::text, name.resize(name.size() - 5);
    if (!is_field_name(name))
      return Problem{"`" + name + "` is not a field's name",
                     "use ${event}, ${count}, ${a.field} or ${a.field:text}", i + 2,
                     std::max<std::size_t>(1, name.size())};
    piece.field = std::move(name);
    field_id(piece.field);  // known before the first event is read: its fields then have this id
    t.pieces_.emplace_back();
    i = close;
  }
  return t;
}

void FrameText::append(const Rendering& r, const SpooledEvent& event, std::size_t count,
                       std::string& out) const {
  for (const Piece& piece : pieces_) {
    out += piece.literal;
    switch (piece.form) {
      case Piece::Form::none: break;
      case Piece::Form::event: r.append_json(event, out); break;
      case Piece::Form::value: r.append_value(event, piece.field, out); break;
      case Piece::Form::count: out += std::to_string(count); break;
      case Piece::Form::text: {
        std::string quoted;
        append_json_string(quoted, r.text_of(event, piece.field));
        out.append(quoted, 1, quoted.size() - 2);
      }
    }
  }
}

std::string FrameText::url(const Rendering& r, const SpooledEvent& event) const {
  std::string out;
  for (const Piece& piece : pieces_) {
    out += piece.literal;
    if (piece.form != Piece::Form::value && piece.form != Piece::Form::text) continue;
    for (const char c : r.text_of(event, piece.field)) {
      const bool plain = (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') ||
                         c == '-' || c == '.' || c == '_' || c == '~';
      if (plain)
        out += c;
      else
        out += fmt::format("%{:02X}", static_cast<unsigned char>(c));
    }
  }
  return out;
}

std::vector<std::string> FrameText::fields() const {
  std::vector<std::string> all;
  for (const Piece& piece : pieces_)
    if (piece.form == Piece::Form::value || piece.form == Piece::Form::text) all.push_back(piece.field);
  return all;
}

void Frame::body(const Rendering& r, std::span<const SpooledEvent* const> events, std::string& out) const {
  out.clear();
  const std::size_t n = events.size();
  begin.append(r, *events.front(), n, out);
  constexpr std::size_t kSample = 256;  // events that show how much room all of them need
  for (std::size_t i = 0; i < n; ++i) {
    if (i == kSample) out.reserve(out.size() / kSample * n / 16 * 17);
    if (i != 0) between.append(r, *events[i], n, out);
    before.append(r, *events[i], n, out);
    event.append(r, *events[i], n, out);
  }
  end.append(r, *events.front(), n, out);
}

}  // namespace dingle
