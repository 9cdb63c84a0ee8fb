#include "store/intake_lines.h"

#include <simdjson.h>

#include "store/store.h"

namespace dingle {

namespace dom = simdjson::dom;

struct IntakeLines::Parser {
  dom::parser parser;
};

IntakeLines::IntakeLines() : parser_(std::make_unique<Parser>()) {}
IntakeLines::~IntakeLines() = default;

// Copies, since the parser's memory is used again for the next line.
std::string_view IntakeLines::copy(std::string_view text) {
  char* to = static_cast<char*>(arena_.allocate(text.size() + 1));
  std::copy(text.begin(), text.end(), to);
  return {to, text.size()};
}

bool IntakeLines::add(std::string_view line, const Sender& sender) {
  auto value_of = [&](const dom::element& v, std::string_view type) -> Value {
    std::int64_t i = 0;
    double d = 0;
    bool b = false;
    std::string_view text;
    if (type == "list" || type == "map") {
      const std::string json = simdjson::minify(v);
      return type == "list" ? Value::list(copy(json)) : Value::map(copy(json));
    }
    if (!v.get(i))
      return type == "decimal"     ? Value::decimal(static_cast<double>(i))
             : type == "timestamp" ? Value::timestamp(i)
                                   : Value::integer(i);
    if (!v.get(d)) return Value::decimal(d);
    if (!v.get(b)) return Value::boolean(b);
    if (v.get(text)) return {};
    return type == "ip" ? Value::ip(copy(text)) : Value::text(copy(text));
  };
  dom::element element;
  dom::object object;
  if (parser_->parser.parse(line.data(), line.size()).get(element) || element.get(object)) return false;
  StoredEvent e;
  std::string_view index, body;
  e.order.spool = sender.spool;
  if (object["index"].get(index) || object["body"].get(body) || object["epoch"].get(e.order.epoch) ||
      object["number"].get(e.order.number) || object["ordinal"].get(e.order.ordinal) ||
      object["stream"].get(e.stream) || object["position"].get(e.position) ||
      object["time"].get(e.timestamp) || object["observed"].get(e.observed))
    return false;
  e.body = copy(body);
  dom::object fields, types;
  const bool typed = !object["types"].get(types);
  std::vector<Field> all;
  if (!object["fields"].get(fields))
    for (auto [name, value] : fields) {
      std::string_view type;
      if (typed && types[name].get(type)) type = {};
      const Value v = value_of(value, type);
      const FieldId id = field_id(name);
      if (!v.absent() && id != kNoField && all.size() < kMostFields) all.push_back({id, v});
    }
  auto* stored = static_cast<Field*>(arena_.allocate(std::max<std::size_t>(1, all.size()) * sizeof(Field)));
  std::copy(all.begin(), all.end(), stored);
  e.fields = {stored, all.size()};
  by_index_[index_name(index)].push_back(e);
  return true;
}

}  // namespace dingle
