// Structured values inside a text: JSON, and elements of an XML fragment.
#include <cstring>

#include "core/json_fields.h"
#include "core/template/lexemes/parts.h"
#include "core/template/library.h"

namespace dingle {
namespace {

// A JSON object or array (RFC 8259), or with `text` a JSON string that holds one.
class Json final : public FieldScan {
 public:
  std::int64_t depth = 8;
  bool in_string = false;

  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view prefix,
                   Value*) const override {
    const char* readable = context.readable;
    std::string_view text;
    Arena scratch;
    Arena& arena = context.arena ? *context.arena : scratch;
    const char* behind = extent(at, end, arena, text, readable);
    if (behind == nullptr) return nullptr;
    if (context.found == nullptr || context.arena == nullptr)
      return json_value(text, arena).kind() == Kind::map ? behind : nullptr;
    JsonCounts counts;
    if (!json_members(text, {prefix, depth, readable}, arena, *context.found, counts).empty()) return nullptr;
    if (context.left_out != nullptr) *context.left_out += counts.unnamed;
    if (context.as_text != nullptr) *context.as_text += counts.as_text;
    return behind;
  }
  const char* scan_whole(const char* at, const char* end, const MatchContext& context,
                         Value& out) const override {
    const char* readable = context.readable;
    std::string_view text;
    Arena scratch;
    Arena& arena = context.arena ? *context.arena : scratch;
    const char* behind = extent(at, end, arena, text, readable);
    if (behind == nullptr) return nullptr;
    const Value value = json_value(text, arena);
    if (value.kind() != Kind::map && value.kind() != Kind::list) return nullptr;
    // Without an arena what was made is gone behind this call.
    out = context.arena || value.as_text().data() == at ? value : Value::from_text(value.kind(), "{}");
    return behind;
  }

 private:
  // The JSON text that starts here: within the line, or decoded from the string that holds it.
  const char* extent(const char* at, const char* end, Arena& arena, std::string_view& text,
                     const char*& readable) const {
    if (!in_string) {
      const char* behind = json_end(at, end);
      if (behind != nullptr) text = {at, static_cast<std::size_t>(behind - at)};
      return behind;
    }
    if (at == end || *at != '"') return nullptr;
    const char* behind = at + 1;
    for (; behind != end && *behind != '"'; ++behind)
      if (*behind == '\\' && ++behind == end) return nullptr;
    if (behind == end) return nullptr;
    ++behind;
    const Value inner = json_value({at, static_cast<std::size_t>(behind - at)}, arena);
    if (inner.kind() != Kind::text) return nullptr;
    text = inner.as_text();
    readable = nullptr;
    return behind;
  }
};

std::shared_ptr<const FieldScan> prepare_json(ParameterReader& parameters, const FieldScanMaking&) {
  auto json = std::make_shared<Json>();
  if (const Parameter* p = parameters.named("depth")) {
    const bool number = !p->value.empty() && p->value.size() <= 3 && p->value[0] != '0' &&
                        p->value.find_first_not_of("0123456789") == std::string::npos;
    if (!number || std::stoul(p->value) > kDeepestJson)
      parameters.bad(*p, "`depth` takes a whole number from 1 to 128, not `" + p->value + "`");
    else
      json->depth = std::stoll(p->value);
  }
  if (const Parameter* p = parameters.named("in")) {
    json->in_string = p->value == "string";
    if (!json->in_string) parameters.bad(*p, "`in` takes only `string`", "write json(in=string)");
  }
  parameters.finish({"depth", "in"});
  return json;
}

// An XML element with all that is in it; columns are texts of elements and attributes named by paths. A
// reader for fragments as they stand in log lines: no entities but the five of XML 1.0 section 4.6 and
// characters by number, no DTD, comments and CDATA understood.
class Xml final : public FieldScan {
 public:
  struct Part {
    std::string name;              // of an element; "*" is any
    std::string attribute, value;  // that it must have; none if `attribute` is empty
  };
  struct Pick {
    std::vector<Part> path;
    std::string attribute;  // "" : the element's text
    bool anywhere = false;  // the path may start at any depth
    CellType type;
  };
  std::vector<Pick> picks;
  bool by_attributes = false;  // some path asks for an attribute's value
  void add_column(std::string name, Kind kind) { columns_.push_back({std::move(name), kind}); }

  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view,
                   Value* out) const override {
    constexpr std::size_t kDeepest = 64;
    Open open[kDeepest];
    const char* text_from[kDeepest];
    std::size_t depth = 0;
    const char* p = at;
    auto starts = [&](std::string_view t) {
      return static_cast<std::size_t>(end - p) >= t.size() && std::memcmp(p, t.data(), t.size()) == 0;
    };
    auto skip_to = [&](std::string_view t) {
      for (; p != end; ++p)
        if (starts(t)) return p += t.size(), true;
      return false;
    };
    if (starts("<?") && (!skip_to("?>"))) return nullptr;
    while (p != end && *p == ' ') ++p;
    if (p == end || *p != '<') return nullptr;
    for (;;) {
      if (depth != 0 || p == end)
        while (p != end && *p != '<') ++p;
      if (p == end) return nullptr;
      if (starts("<!--")) {
        if (!skip_to("-->")) return nullptr;
        continue;
      }
      if (starts("<![CDATA[")) {
        if (!skip_to("]]>")) return nullptr;
        continue;
      }
      if (starts("</")) {
        const char* text_end = p;
        p += 2;
        const std::string_view name = word(p, end);
        blanks(p, end);
        if (p == end || *p != '>' || depth == 0 || open[depth - 1].name != name) return nullptr;
        element_text(open, depth,
                     {text_from[depth - 1], static_cast<std::size_t>(text_end - text_from[depth - 1])},
                     context, out);
        ++p;
        if (--depth == 0) return p;
        continue;
      }
      ++p;
      const std::string_view name = word(p, end);
      if (name.empty() || depth == kDeepest) return nullptr;
      open[depth++] = {name, by_attributes ? attributes_at(p, end) : std::string_view()};
      for (;;) {
        blanks(p, end);
        if (p == end) return nullptr;
        if (*p == '>') {
          ++p;
          break;
        }
        if (*p == '/') {
          if (++p == end || *p != '>') return nullptr;
          ++p;
          if (--depth == 0) return p;
          break;
        }
        const std::string_view attribute = word(p, end);
        if (attribute.empty() || p == end || *p != '=') return nullptr;
        ++p;
        if (p == end || (*p != '"' && *p != '\'')) return nullptr;
        const char* close =
            static_cast<const char*>(std::memchr(p + 1, *p, static_cast<std::size_t>(end - p - 1)));
        if (close == nullptr) return nullptr;
        const std::string_view value(p + 1, static_cast<std::size_t>(close - p - 1));
        for (std::size_t i = 0; i < picks.size(); ++i)
          if (picks[i].attribute == attribute && out[i].absent() && fits(picks[i], open, depth))
            out[i] = typed_cell(decoded(value, context), picks[i].type, context);
        p = close + 1;
      }
      if (depth > 0) text_from[depth - 1] = p;
    }
  }

 private:
  static std::string_view word(const char*& p, const char* end) {
    const char* from = p;
    while (p != end && (is_letter(*p) || is_digit(*p) || *p == '_' || *p == '-' || *p == '.' || *p == ':' ||
                        static_cast<unsigned char>(*p) >= 0x80))
      ++p;
    return {from, static_cast<std::size_t>(p - from)};
  }
  static void blanks(const char*& p, const char* end) {
    while (p != end && (*p == ' ' || *p == '\t' || *p == '\n' || *p == '\r')) ++p;
  }
  struct Open {
    std::string_view name, attributes;  // as they are written, up to the end of the tag
  };
  static std::string_view attributes_at(const char* p, const char* end) {
    const char* const from = p;
    for (char quote = '\0'; p != end && (quote != '\0' || *p != '>'); ++p)
      if (quote == *p)
        quote = '\0';
      else if (quote == '\0' && (*p == '"' || *p == '\''))
        quote = *p;
    return {from, static_cast<std::size_t>(p - from)};
  }
  static bool has(std::string_view attributes, const Part& part) {
    const char* p = attributes.data();
    const char* const end = p + attributes.size();
    while (p != end) {
      blanks(p, end);
      const std::string_view name = word(p, end);
      if (name.empty() || end - p < 2 || *p != '=') return false;
      const char quote = *++p;
      const auto* close =
          static_cast<const char*>(std::memchr(p + 1, quote, static_cast<std::size_t>(end - p - 1)));
      if (close == nullptr) return false;
      if (name == part.attribute)
        return part.value == std::string_view(p + 1, static_cast<std::size_t>(close - p - 1));
      p = close + 1;
    }
    return false;
  }
  static bool fits(const Pick& pick, const Open* open, std::size_t depth) {
    const std::size_t n = pick.path.size();
    if (pick.anywhere ? depth < n : depth != n) return false;
    for (std::size_t i = 0; i < n; ++i) {
      const Part& part = pick.path[i];
      const Open& element = open[depth - n + i];
      if (part.name != "*" && part.name != element.name) return false;
      if (!part.attribute.empty() && !has(element.attributes, part)) return false;
    }
    return true;
  }
  void element_text(const Open* open, std::size_t depth, std::string_view text, const MatchContext& context,
                    Value* out) const {
    for (std::size_t i = 0; i < picks.size(); ++i)
      if (picks[i].attribute.empty() && out[i].absent() && fits(picks[i], open, depth))
        out[i] = typed_cell(decoded(text, context), picks[i].type, context);
  }
  // Character references, CDATA sections; tags of inner elements are left out.
  static std::string_view decoded(std::string_view text, const MatchContext& context) {
    if (text.find_first_of("&<") == std::string_view::npos || context.arena == nullptr) return text;
    std::string plain;
    for (std::size_t i = 0; i < text.size();) {
      const std::string_view rest = text.substr(i);
      if (rest.starts_with("<![CDATA[")) {
        const std::size_t close = rest.find("]]>");
        plain += rest.substr(9, close == std::string_view::npos ? close : close - 9);
        i = close == std::string_view::npos ? text.size() : i + close + 3;
      } else if (rest[0] == '<') {
        const std::size_t close = rest.find('>');
        i = close == std::string_view::npos ? text.size() : i + close + 1;
      } else if (rest[0] == '&') {
        const std::size_t semicolon = rest.substr(0, 12).find(';');
        const std::string_view name =
            semicolon == std::string_view::npos ? std::string_view() : rest.substr(1, semicolon - 1);
        const char c = name == "lt"     ? '<'
                       : name == "gt"   ? '>'
                       : name == "amp"  ? '&'
                       : name == "quot" ? '"'
                       : name == "apos" ? '\''
                                        : '\0';
        if (c != '\0') {
          plain += c;
          i += semicolon + 1;
        } else if (name.size() > 1 && name[0] == '#' && append_character(name.substr(1), plain)) {
          i += semicolon + 1;
        } else {
          plain += text[i++];
        }
      } else {
        plain += text[i++];
      }
    }
    return context.arena->copy(plain);
  }
  // "65" or "x41" as UTF-8.
  static bool append_character(std::string_view number, std::string& out) {
    const bool hex = number[0] == 'x';
    if (hex) number.remove_prefix(1);
    std::uint32_t c = 0;
    if (number.empty()) return false;
    for (char d : number) {
      if (hex ? !is_hex(d) : !is_digit(d)) return false;
      c = c * (hex ? 16 : 10) + static_cast<std::uint32_t>(is_digit(d) ? d - '0' : (d | 0x20) - 'a' + 10);
      if (c > 0x10FFFF) return false;
    }
    if (c == 0 || (c >= 0xD800 && c < 0xE000)) return false;
    if (c < 0x80) {
      out += static_cast<char>(c);
    } else if (c < 0x800) {
      out += static_cast<char>(0xC0 | c >> 6);
      out += static_cast<char>(0x80 | (c & 0x3F));
    } else if (c < 0x10000) {
      out += static_cast<char>(0xE0 | c >> 12);
      out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
      out += static_cast<char>(0x80 | (c & 0x3F));
    } else {
      out += static_cast<char>(0xF0 | c >> 18);
      out += static_cast<char>(0x80 | (c >> 12 & 0x3F));
      out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
      out += static_cast<char>(0x80 | (c & 0x3F));
    }
    return true;
  }
};

// Takes `[@name='value']` off an element's name, if it is there. False if it is not whole.
bool by_attribute(Xml::Part& part) {
  const std::size_t open = part.name.find('[');
  if (open == std::string::npos) return true;
  std::string inner = part.name.substr(open + 1);
  part.name.resize(open);
  const std::size_t equals = inner.find('=');
  if (inner.size() < 4 || inner[0] != '@' || inner.back() != ']' || equals == std::string::npos) return false;
  part.attribute = inner.substr(1, equals - 1);
  part.value = inner.substr(equals + 1, inner.size() - equals - 2);
  if (part.value.size() >= 2 && (part.value[0] == '\'' || part.value[0] == '"') &&
      part.value.back() == part.value[0])
    part.value = part.value.substr(1, part.value.size() - 2);
  return !part.name.empty() && !part.attribute.empty();
}

std::shared_ptr<const FieldScan> prepare_xml(ParameterReader& parameters, const FieldScanMaking&) {
  auto xml = std::make_shared<Xml>();
  while (const Parameter* p = parameters.next_positional()) {
    // name=path is read as a named parameter; here stand paths that name their field by their last part.
    parameters.bad(*p, "`" + p->value + "` has no field's name",
                   "write field=path, for instance user=/event/user");
  }
  parameters.each_named([&](const Parameter& p) {
    std::string path = p.value;
    Xml::Pick pick;
    if (const std::size_t colon = path.rfind(':');
        colon != std::string::npos && path.find(']', colon) == std::string::npos) {
      pick.type = cell_type(parameters, p, std::string_view(path).substr(colon + 1));
      path.resize(colon);
    }
    pick.anywhere = path.empty() || path[0] != '/';
    for (std::size_t at = pick.anywhere ? 0 : 1; at <= path.size();) {
      std::size_t slash = at;
      for (bool within = false; slash < path.size() && (within || path[slash] != '/'); ++slash)
        within = path[slash] == '[' || (within && path[slash] != ']');
      std::string part = path.substr(at, slash - at);
      at = slash + 1;
      if (part.empty() || part == "@") {
        parameters.bad(p, "`" + p.value + "` is no path", "for instance /event/user or /event/@id");
        return;
      }
      if (part[0] == '@' && at > path.size())
        pick.attribute = part.substr(1);
      else
        pick.path.push_back({part, "", ""});
      if (pick.attribute.empty() && !by_attribute(pick.path.back())) {
        parameters.bad(p, "`" + part + "` is no element", "for instance value[@name='ship']");
        return;
      }
      xml->by_attributes = xml->by_attributes || (!pick.path.empty() && !pick.path.back().attribute.empty());
    }
    if (!is_field_name(p.name)) parameters.bad(p, "`" + p.name + "` is not a field name", "");
    if (pick.path.empty()) pick.path.push_back({"*", "", ""});
    if (xml->columns().size() == kMostFieldColumns) return parameters.bad(p, "more than 200 paths", "");
    xml->add_column(p.name, pick.type.kind);
    xml->picks.push_back(std::move(pick));
  });
  return xml;
}

}  // namespace

FieldPattern json_pattern() {
  return {"json",
          ByteClass::of("{[\""),
          false,
          "a JSON object or array",
          "{\"ship\":\"Tern\",\"berth\":4}\n[1,2]",
          "{ship",
          "depth=8, how deep objects are taken apart; in=string, when it stands in a JSON string",
          prepare_json};
}

FieldPattern xml_pattern() {
  return {"xml",
          ByteClass::of("<"),
          false,
          "an XML element",
          "<event id=\"7\"><ship>Tern</ship></event>",
          "<event",
          "field=path each, for instance user=/event/user, id=/event/@id, note=note:text",
          prepare_xml};
}

}  // namespace dingle
