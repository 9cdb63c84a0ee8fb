#include <algorithm>

#include "agent/rehearsal/rehearsal.h"
#include "core/json_text.h"
#include "core/template/template.h"

namespace dingle {
namespace {

constexpr Rehearsal::Outcome kOutcomes[] = {Rehearsal::Outcome::failed, Rehearsal::Outcome::dropped,
                                            Rehearsal::Outcome::merged, Rehearsal::Outcome::unrouted,
                                            Rehearsal::Outcome::goes_on};
constexpr std::size_t kMostNames = 20;  // of indexes and the like, by destination

void add_span(Json& to, const Rehearsal::Span& span) {
  to["from"] = span.from;
  to["length"] = span.length;
}

Json json_of(const Rehearsal::Change& c) {
  Json row{{"field", valid_utf8(field_name(c.field))}};
  if (!c.before.absent()) row["before"] = dingle::json_of(c.before);
  if (!c.after.absent()) {
    row["after"] = dingle::json_of(c.after);
    row["type"] = kind_name(c.after.kind());
  }
  if (c.span) add_span(row, *c.span);
  return row;
}

Json json_of(const Rehearsal::Traced& e, const Rehearsal& rehearsal) {
  Json row{{"outcome", name_of(e.outcome)}};
  if (e.line != Rehearsal::kNone) {
    row["line"] = e.line + 1;
    row["text"] = valid_utf8(rehearsal.line(e.line));
  }
  if (e.made_by != 0) row["made_by"] = e.made_by;
  if (e.at_end) row["at_end"] = true;
  if (e.ended_by != 0) row["by"] = e.ended_by;
  if (!e.reason.empty()) {
    row["reason"] = valid_utf8(e.column ? mismatch_sentence(e.body, e.column, e.reason) : e.reason);
    if (e.column != 0) row["column"] = e.column;
  }
  row["steps"] = Json::array();
  for (const Rehearsal::Done& done : e.steps) {
    Json one{{"step", done.step}, {"passed_by", done.passed_by}, {"failed", done.failed}};
    one["changes"] = Json::array();
    for (const Rehearsal::Change& c : done.changes) one["changes"].push_back(json_of(c));
    row["steps"].push_back(std::move(one));
  }
  if (e.outcome == Rehearsal::Outcome::merged) return row;
  row["timestamp"] = dingle::json_of(Value::timestamp(e.timestamp));
  row["body"] = valid_utf8(e.body);
  row["fields"] = Json::array();
  for (const Field& f : e.fields) {
    Json one{{"field", valid_utf8(field_name(f.name))},
             {"type", kind_name(f.value.kind())},
             {"value", dingle::json_of(f.value)}};
    if (const auto it = e.spans.find(f.name); it != e.spans.end()) add_span(one, it->second);
    row["fields"].push_back(std::move(one));
  }
  row["to"] = Json::array();
  for (const auto& [destination, name] : e.to) {
    Json one{{"destination", rehearsal.configuration().destinations[destination].name}};
    if (!name.empty()) one["name"] = name;
    row["to"].push_back(std::move(one));
  }
  return row;
}

Json json_of(const Step& step, const Rehearsal::OfStep& of) {
  const StepTally& t = of.tally;
  Json row{{"step", step.number}, {"kind", step.kind}};
  if (!step.name.empty()) row["name"] = step.name;
  if (step.off) row["off"] = true;
  if (step.where) row["where"] = step.where->text();
  row.update({{"in", t.in},
              {"out", t.out},
              {"created", t.created},
              {"merged", t.merged},
              {"dropped", t.dropped},
              {"failed", t.failed},
              {"missed", t.missed},
              {"gave_up", t.gave_up},
              {"changed", of.changed},
              {"bytes_in", t.bytes_in},
              {"bytes_out", t.bytes_out},
              {"nanoseconds", t.nanoseconds}});
  row["templates"] = Json::array();
  const std::vector<std::string> templates = step.templates();
  for (std::size_t i = 0; i < std::min(templates.size(), t.matched.size()); ++i)
    row["templates"].push_back({{"template", templates[i]}, {"matched", t.matched[i]}});
  row["fields"] = Json::array();
  for (const Rehearsal::OfStep::Made& made : of.fields) {
    Json kinds = Json::object();
    for (const auto& [kind, events] : made.kinds) kinds[std::string(kind)] = events;
    row["fields"].push_back(
        {{"field", valid_utf8(field_name(made.field))}, {"events", made.events}, {"types", kinds}});
  }
  return row;
}

Json destinations(const Rehearsal::OfPipeline& p, const Rehearsal& rehearsal) {
  struct At {
    std::uint64_t events = 0, bytes = 0;
    std::map<std::string, std::uint64_t> names;
  };
  std::map<std::size_t, At> all;
  for (const Flow::Output& output : p.node->outputs) all[output.destination];
  for (const Rehearsal::Traced& e : p.events) {
    std::uint64_t bytes = e.body.size();
    for (const Field& f : e.fields)
      bytes += f.value.is_textual() ? f.value.as_text().size() : sizeof(std::int64_t);
    for (const auto& [destination, name] : e.to) {
      At& at = all[destination];
      ++at.events;
      at.bytes += bytes;
      if (!name.empty() && (at.names.size() < kMostNames || at.names.count(name))) ++at.names[name];
    }
  }
  Json list = Json::array();
  for (const auto& [destination, at] : all) {
    Json one{{"destination", rehearsal.configuration().destinations[destination].name},
             {"events", at.events},
             {"bytes", at.bytes},
             {"names", Json::object()}};
    for (const auto& [name, events] : at.names) one["names"][name] = events;
    list.push_back(std::move(one));
  }
  return list;
}

Json not_taken(const Rehearsal::OfPipeline& p, const Rehearsal& rehearsal, std::size_t most) {
  std::map<std::string, std::uint64_t> why;
  Json lines = Json::array();
  for (const Rehearsal::NotTaken& n : p.not_taken) {
    ++why[n.why];
    if (lines.size() < most)
      lines.push_back({{"line", n.line + 1}, {"text", valid_utf8(rehearsal.line(n.line))}, {"why", n.why}});
  }
  return {{"count", p.not_taken.size()}, {"why", why}, {"lines", std::move(lines)}};
}

// About how many bytes an event takes as JSON.
std::size_t size_of(const Rehearsal::Traced& e, const Rehearsal& rehearsal) {
  const auto bytes = [](const Value& v) { return v.is_textual() ? v.as_text().size() : std::size_t{20}; };
  std::size_t size = 300 + e.body.size() + (e.line == Rehearsal::kNone ? 0 : rehearsal.line(e.line).size());
  for (const Rehearsal::Done& done : e.steps)
    for (const Rehearsal::Change& c : done.changes) size += 120 + bytes(c.before) + bytes(c.after);
  for (const Field& f : e.fields) size += 80 + bytes(f.value);
  return size;
}

// `room`: bytes that there are left for events; 0 once one had to be left out.
Json json_of(const Rehearsal::OfPipeline& p, const Rehearsal& rehearsal, std::size_t most,
             std::size_t& room) {
  const Pipeline& pipeline = *p.node->pipeline;
  Json row{{"pipeline", pipeline.name}};
  if (!p.unreached.empty()) row["unreached"] = p.unreached;
  if (pipeline.where) row["where"] = pipeline.where->text();
  if (pipeline.unless) row["unless"] = pipeline.unless->text();
  row["in"] = p.in;
  row["bytes_in"] = p.bytes_in;
  for (const Rehearsal::Outcome outcome : kOutcomes) row["outcomes"][name_of(outcome)] = p.count(outcome);
  row["steps"] = Json::array();
  for (std::size_t s = 0; s < p.steps.size(); ++s)
    row["steps"].push_back(json_of(*pipeline.steps[s], p.steps[s]));
  row["to"] = destinations(p, rehearsal);
  row["not_taken"] = not_taken(p, rehearsal, most);
  row["events"] = Json::array();
  for (const Rehearsal::Outcome outcome : kOutcomes) {
    std::size_t shown = 0;
    for (const Rehearsal::Traced& e : p.events) {
      if (e.outcome != outcome || shown++ >= most || room == 0) continue;
      const std::size_t size = size_of(e, rehearsal);
      room -= std::min(room, size);
      if (room != 0) row["events"].push_back(json_of(e, rehearsal));
    }
  }
  return row;
}

}  // namespace

Json json_of(const Rehearsal& rehearsal, std::size_t most) {
  Json answer{{"configuration", rehearsal.configuration().version},
              {"source", rehearsal.source()},
              {"lines", rehearsal.lines()},
              {"leftovers", rehearsal.leftovers()},
              {"pipelines", Json::array()}};
  std::size_t room = Rehearsal::kMostAnswered;
  for (const Rehearsal::OfPipeline& p : rehearsal.pipelines())
    answer["pipelines"].push_back(json_of(p, rehearsal, most, room));
  if (room == 0) answer["cut_at_bytes"] = Rehearsal::kMostAnswered;
  return answer;
}

}  // namespace dingle
