// A step made from its options, and run on some lines.
#pragma once

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "core/flow/pipeline.h"
#include "core/json_text.h"
#include "core/time/instant.h"
#include "tests/core/nodes.h"

namespace dingle {

// A step as a configuration would make it.
inline std::unique_ptr<Step> step(const char* kind, const Node& options) {
  static const PatternLibrary library;
  Findings findings("");
  const StepKind* k = step_kind(kind);
  Options o = Options::read(k->spec.options, options, kind, findings);
  auto made = k->make({o, library, findings});
  for (const Finding& f : findings.all()) ADD_FAILURE() << f.message;
  if (!o.text("where").empty()) made->where = std::make_unique<Condition>(*Condition::parse(o.text("where")));
  made->kind = kind;
  return made;
}

struct Trial {
  std::unique_ptr<Pipeline> pipeline;
  std::shared_ptr<LineBuffer> buffer;
  Batch batch;
  std::vector<StepTally> tallies;
  std::optional<Pipeline::Present> present;
  // The fields of one event: "name=value name=value"
  std::string fields(std::size_t i) const {
    std::string out;
    for (const Field& f : batch.events[i].all())
      out += (out.empty() ? "" : " ") + std::string(field_name(f.name)) + "=" + f.value.to_string();
    return out;
  }
};

template <class... Steps>
Trial run(const std::vector<std::string>& lines, Steps... steps) {
  Trial r;
  std::string all;
  for (const auto& line : lines) all += line + "\n";
  r.buffer = std::make_shared<LineBuffer>(all.size());
  std::copy(all.begin(), all.end(), r.buffer->bytes.get());
  r.buffer->finish(all.size());
  r.batch.buffer = r.buffer;
  std::size_t at = 0;
  for (const auto& line : lines) {
    Event e;
    e.body = {r.buffer->bytes.get() + at, line.size()};
    e.timestamp = e.observed = 1'795'428'000 * kSecond;
    r.batch.events.push_back(e);
    at += line.size() + 1;
  }
  r.pipeline = std::make_unique<Pipeline>();
  (r.pipeline->add(std::move(steps)), ...);
  r.tallies.resize(r.pipeline->steps.size());
  for (std::size_t i = 0; i < r.tallies.size(); ++i) r.pipeline->step(i, r.batch, r.tallies[i], r.present);
  r.pipeline->finish(r.batch);
  for (const StepTally& t : r.tallies) EXPECT_EQ(t.unbalanced, 0u);
  return r;
}

}  // namespace dingle
