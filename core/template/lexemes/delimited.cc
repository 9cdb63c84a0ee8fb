// Cells between separators: CSV columns, and pairs of a key and a value.
#include <cstring>

#include "core/name_memo.h"
#include "core/template/lexemes/parts.h"
#include "core/template/library.h"

namespace dingle {
namespace {

// A cell in quotes at `at`; a doubled quote is part of it. Decoded into the arena only where it must be.
// Answers the place behind the closing quote, or nullptr.
const char* quoted_cell(const char* at, const char* end, char quote, const MatchContext& context,
                        std::string_view& text) {
  const char* from = at + 1;
  std::size_t doubled = 0;
  const char* p = from;
  for (;;) {
    p = static_cast<const char*>(std::memchr(p, quote, static_cast<std::size_t>(end - p)));
    if (p == nullptr) return nullptr;
    if (p + 1 == end || p[1] != quote) break;
    ++doubled;
    p += 2;
  }
  text = {from, static_cast<std::size_t>(p - from)};
  if (doubled != 0 && context.arena) {
    char* to = static_cast<char*>(context.arena->allocate(text.size() - doubled));
    std::size_t n = 0;
    for (std::size_t i = 0; i < text.size(); ++i) {
      to[n++] = text[i];
      if (text[i] == quote) ++i;
    }
    text = {to, n};
  }
  return p + 1;
}

// CSV (RFC 4180): cells in a fixed order; an empty column name takes a cell and keeps nothing.
class Csv final : public FieldScan {
 public:
  char separator = ',', quote = '"';
  ByteClass ends;
  std::vector<CellType> types;     // by cell
  std::vector<std::ptrdiff_t> to;  // by cell: its column, or -1
  bool only_separator = true;      // nothing else ends a cell but the end of the line

  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view,
                   Value* out) const override {
    return cells(at, end, context, out, nullptr);
  }
  Failure why(const char* at, const char* end, const MatchContext& context) const override {
    std::vector<Value> out(columns_.size());
    Failure failure{at, ""};
    cells(at, end, context, out.data(), &failure);
    return failure;
  }
  void add_column(std::string name, Kind kind) { columns_.push_back({std::move(name), kind}); }

 private:
  std::string about(std::size_t cell) const {
    return to[cell] < 0 ? "cell " + std::to_string(cell + 1)
                        : "column " + std::to_string(cell + 1) + ", `" +
                              columns_[static_cast<std::size_t>(to[cell])].name + "`";
  }
  const char* cells(const char* at, const char* end, const MatchContext& context, Value* out,
                    Failure* why) const {
    const char* p = at;
    for (std::size_t i = 0; i < types.size(); ++i) {
      if (i != 0) {
        if (p == end || *p != separator) {
          if (why) *why = {p, std::string("`") + separator + "` and " + about(i)};
          return nullptr;
        }
        ++p;
      }
      const char* const begin = p;
      std::string_view text;
      if (p != end && *p == quote) {
        p = quoted_cell(p, end, quote, context, text);
        if (p == nullptr) {
          if (why) *why = {begin, "a closing quote of " + about(i)};
          return nullptr;
        }
      } else {
        const char* from = p;
        if (only_separator) {
          p = static_cast<const char*>(std::memchr(p, separator, static_cast<std::size_t>(end - p)));
          if (p == nullptr) p = end;
        } else {
          while (p != end && *p != separator && !ends.has(static_cast<unsigned char>(*p))) ++p;
        }
        text = {from, static_cast<std::size_t>(p - from)};
      }
      if (to[i] < 0) continue;
      if (types[i].scan == nullptr) {
        out[to[i]] = Value::text(text);
        continue;
      }
      if (text.empty()) continue;  // an empty cell of a typed column holds no value
      Value value;
      const char* last = text.data() + text.size();
      if (types[i].scan(text.data(), last, context, nullptr, value) != last) {
        if (why) *why = {begin, std::string(kind_name(types[i].kind)) + " in " + about(i)};
        return nullptr;
      }
      out[to[i]] = value;
    }
    return p;
  }
};

std::shared_ptr<const FieldScan> prepare_csv(ParameterReader& parameters, const FieldScanMaking& making) {
  auto csv = std::make_shared<Csv>();
  csv->separator = parameters.byte("separator", ',');
  csv->quote = parameters.byte("quote", '"');
  csv->ends = making.ends;
  csv->only_separator = making.ends.empty();
  while (const Parameter* p = parameters.next_positional()) {
    std::string name = p->value;
    CellType type;
    if (const std::size_t colon = name.find(':'); colon != std::string::npos) {
      type = cell_type(parameters, *p, std::string_view(name).substr(colon + 1));
      name.resize(colon);
    }
    if (!name.empty() && !is_field_name(name))
      parameters.bad(*p, "`" + name + "` is not a field name", "a column is written name or name:pattern");
    for (const FieldColumn& column : csv->columns())
      if (!name.empty() && column.name == name)
        parameters.bad(*p, "the column `" + name + "` is there twice", "give one of them another name");
    if (csv->columns().size() == kMostFieldColumns) {
      parameters.bad(*p, "more than 200 columns", "");
      break;
    }
    csv->types.push_back(type);
    csv->to.push_back(name.empty() ? -1 : static_cast<std::ptrdiff_t>(csv->columns().size()));
    if (!name.empty()) csv->add_column(name, type.kind);
  }
  parameters.finish({"separator", "quote"});
  return csv;
}

// key=value pairs, as many as there are.
class Pairs final : public FieldScan {
 public:
  char separator = ' ', equals = '=';
  bool typed = true;
  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view prefix,
                   Value*) const override {
    thread_local NameMemo memo;
    if (context.found) memo.use(context.arena->names());
    const char* p = at;
    const char* behind = nullptr;
    std::size_t count = 0;
    for (;;) {
      const char* key = p;
      while (p != end && of_key[static_cast<unsigned char>(*p)]) ++p;
      if (p == key || p == end || *p != equals || ++count > kMostFound) break;
      const std::string_view key_text(key, static_cast<std::size_t>(p - key));
      ++p;
      std::string_view text;
      bool quoted = false;
      if (p != end && (*p == '"' || *p == '\'')) {
        Value value;
        const char* q = scan_quoted(p, end, context, nullptr, value);
        quoted = q != nullptr;
        if (quoted) p = q, text = value.as_text();
      }
      if (!quoted) {
        const char* from = p;
        while (p != end && !ends_value[static_cast<unsigned char>(*p)]) ++p;
        text = {from, static_cast<std::size_t>(p - from)};
      }
      behind = p;
      if (context.found) {
        const FieldId id = memo.id(count - 1, prefix, key_text);
        if (id != kNoField)
          context.found->push_back({id, typed && !quoted ? guessed_value(text, context) : Value::text(text)});
        else if (context.left_out)
          ++*context.left_out;
      }
      if (p == end || *p != separator) break;
      while (p != end && (*p == separator || *p == ' ')) ++p;
    }
    return behind;
  }
  void prepare(const ByteClass& ends) {
    using namespace classes;
    const ByteClass keys = letters() | digits() | ByteClass::of("_.-@/") | beyond_ascii();
    for (unsigned b = 0; b < 256; ++b) {
      const auto c = static_cast<unsigned char>(b);
      of_key[b] = keys.has(c) && static_cast<char>(c) != equals && static_cast<char>(c) != separator;
      ends_value[b] = ends.has(c) || static_cast<char>(c) == separator;
    }
  }

 private:
  bool of_key[256] = {}, ends_value[256] = {};
};

std::shared_ptr<const FieldScan> prepare_pairs(ParameterReader& parameters, const FieldScanMaking& making) {
  auto pairs = std::make_shared<Pairs>();
  pairs->separator = parameters.byte("separator", ' ');
  pairs->equals = parameters.byte("equals", '=');
  const std::string values = parameters.text("values", "typed");
  pairs->typed = values != "text";
  pairs->prepare(making.ends);
  parameters.finish({"separator", "equals", "values"});
  return pairs;
}

}  // namespace

FieldPattern csv_pattern() {
  return {
      "csv",
      ByteClass::any(),
      false,
      "the columns of a CSV line",
      "Kittiwake,12,\"Northquay, west\"",
      "",
      "the columns: name or name:pattern each, empty for one that is not kept; separator=\",\", quote='\"'",
      prepare_csv};
}

FieldPattern pairs_pattern() {
  using namespace classes;
  return {"pairs",
          letters() | digits() | ByteClass::of("_.-@/") | beyond_ascii(),
          false,
          "pairs such as crane=7 load=12.5",
          "crane=7 load=12.5 state=\"at rest\"",
          "no pairs",
          "separator=\" \", equals=\"=\", values=text to leave numbers as they are written",
          prepare_pairs};
}

}  // namespace dingle
