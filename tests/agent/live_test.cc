#include "agent/engine/live.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>
#include <sstream>

#include "agent/problems.h"

namespace dingle {
namespace {

Batch batch_of(const std::vector<std::string>& bodies, Arena& arena) {
  Batch batch;
  for (const std::string& body : bodies) {
    Event e;
    e.body = arena.copy(body);
    batch.events.push_back(e);
  }
  return batch;
}

// The pipeline `name`, whose steps have these names.
Flow::Node node_of(const std::string& name, const std::vector<std::string>& steps = {}) {
  struct Passes final : Step {
    void run(Batch&, StepTally&) const override {}
  };
  auto pipeline = std::make_shared<Pipeline>();
  pipeline->name = name;
  for (const std::string& step : steps) {
    pipeline->add(std::make_unique<Passes>());
    pipeline->steps.back()->kind = "drop";
    pipeline->steps.back()->name = step;
  }
  Flow::Node node;
  node.pipeline = pipeline;
  return node;
}

TEST(Live, ShowsWhatSatisfiesTheCondition) {
  Live live;
  Arena arena;
  EXPECT_FALSE(live.watched());
  auto viewer = live.add(*Condition::parse("body like 'a%'"), "", false);
  auto other = live.add(Condition(), "another", false);
  EXPECT_TRUE(live.watched());
  Batch batch = batch_of({"ab", "b", "ac"}, arena);
  batch.events[2].dropped_by = 1;
  live.finished(node_of("gate", {""}), batch);
  std::uint64_t missed = 0;
  const std::string lines = viewer->take(100, &missed);
  EXPECT_NE(lines.find("\"body\":\"ab\""), std::string::npos);
  EXPECT_EQ(std::count(lines.begin(), lines.end(), '\n'), 1);
  EXPECT_EQ(other->take(0, &missed), "");
  live.remove(viewer);
  live.remove(other);
  EXPECT_FALSE(live.watched());
}

TEST(Live, ShowsWhatIsDroppedWithTheStepThatDidIt) {
  Live live;
  Arena arena;
  auto viewer = live.add(Condition(), "", true);
  Batch batch = batch_of({"kept", "first", "second", "nowhere"}, arena);
  batch.events[1].dropped_by = 1;
  batch.events[2].dropped_by = 2;
  live.finished(node_of("gate", {"", "quiet"}), batch);
  live.unrouted(node_of("gate"), batch, {true, true, true, false});
  std::uint64_t missed = 0;
  std::string told;
  std::istringstream lines(viewer->take(100, &missed));
  for (std::string line; std::getline(lines, line);) {
    const auto event = nlohmann::json::parse(line);
    told += event["body"].get<std::string>() + " by " + event["dingle.dropped_by"].get<std::string>() + " " +
            std::to_string(event.value("dingle.step", 0)) + "; ";
  }
  EXPECT_EQ(told, "first by drop 1; second by quiet 2; nowhere by to 0; ");
}

TEST(Live, SlowViewerMissesAndIsTold) {
  Live live;
  Arena arena;
  auto viewer = live.add(Condition(), "", false);
  Batch batch = batch_of(std::vector<std::string>(100, std::string(10'000, 'x')), arena);
  for (int i = 0; i < 10; ++i) live.finished(node_of("p"), batch);
  std::uint64_t missed = 0, seen = 0;
  for (std::string lines; !(lines = viewer->take(0, &missed)).empty();)
    seen += static_cast<std::uint64_t>(std::count(lines.begin(), lines.end(), '\n'));
  EXPECT_GT(missed, 0u);
  EXPECT_EQ(seen + missed, 1000u);
}

TEST(Live, EndLetsViewersReturn) {
  Live live;
  auto viewer = live.add(Condition(), "", false);
  live.end();
  std::uint64_t missed = 0;
  EXPECT_EQ(viewer->take(10'000, &missed), "");
  EXPECT_TRUE(viewer->ended());
}

TEST(Problems, AreToldOnceAndEnd) {
  std::vector<std::string> told;
  Problems problems([&](const Problems::Problem& p, Problems::Said said) {
    told.push_back((said == Problems::Said::ended ? "end " : "") + p.text);
  });
  for (int i = 0; i < 5; ++i) problems.set("d", "away");
  problems.set("d", "refused");
  EXPECT_EQ(problems.all()[0].times, 6u);
  problems.clear("d");
  problems.clear("d");
  EXPECT_EQ(told, (std::vector<std::string>{"away", "refused", "end refused"}));
  EXPECT_TRUE(problems.all().empty());
}

}  // namespace
}  // namespace dingle
