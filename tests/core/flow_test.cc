#include <gtest/gtest.h>

#include <algorithm>

#include "core/flow/work.h"
#include "core/steps/hiding.h"

namespace dingle {
namespace {

std::unique_ptr<Condition> condition(const std::string& text) {
  return text.empty() ? nullptr : std::make_unique<Condition>(*Condition::parse(text));
}

// Adds "+NAME" to the field `way`, and drops what its condition says.
struct Passes final : Step {
  std::unique_ptr<Condition> drops;
  explicit Passes(const std::string& condition_text) : drops(condition(condition_text)) {}
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& e) {
      const Field* before = e.find(field_id("way"));
      const std::string way = before ? before->value.to_string() + "+" : "";
      e.set(batch.arena, field_id("way"), Value::text(batch.arena.copy(way + name)));
      if (drops && drops->holds(EventReader(batch, e))) {
        e.dropped_by = number;
        ++tally.dropped;
      } else {
        ++tally.out;
      }
    });
  }
};

struct Described {
  std::string name;
  std::vector<std::string> from;  // "s..." is a source, "leftovers", otherwise a pipeline before or after it
  std::string where, unless, drops;
  std::vector<std::string> to = {""};  // conditions of its destinations 0, 1, ...
  bool hides = false;
};

struct HidesNothing final : HidingStep {
  std::string instead(std::string_view, const Finder*) const override { return ""; }
};

struct FlowTest : testing::Test {
  std::vector<std::size_t> circle;
  Flow flow;
  void build(const std::vector<Described>& all) {
    std::vector<Flow::Node> nodes;
    for (const Described& d : all) {
      Flow::Node node;
      auto p = std::make_shared<Pipeline>();
      p->name = d.name;
      p->where = condition(d.where);
      p->unless = condition(d.unless);
      p->add(std::make_unique<Passes>(d.drops));
      p->steps[0]->name = d.name;
      if (d.hides) p->add(std::make_unique<HidesNothing>());
      node.pipeline = p;
      node.number = nodes.size();
      for (const std::string& f : d.from) {
        const auto at = std::find_if(all.begin(), all.end(), [&](const Described& o) { return o.name == f; });
        if (f == Flow::kLeftovers)
          node.leftovers = true;
        else if (at != all.end())
          node.from.push_back(static_cast<std::size_t>(at - all.begin()));
        else
          node.sources.push_back(f);
      }
      for (std::size_t i = 0; i < d.to.size(); ++i) node.outputs.push_back({i, condition(d.to[i])});
      nodes.push_back(std::move(node));
    }
    flow = Flow::of(std::move(nodes), circle);
  }
  // What comes of lines: "pipeline:body/branch(way)" of each finished event, by node.
  std::string run(const std::vector<std::string>& lines, const std::string& source = "s",
                  std::optional<Work::Again> again = {}) {
    texts = lines;
    in.clear();
    std::map<std::uint16_t, std::uint64_t> next;  // by slice; places of one are those of another
    for (std::size_t i = 0; i < texts.size(); ++i) {
      const std::uint16_t slice = i < slices.size() ? slices[i] : 0;
      in.push_back({texts[i], next[slice], slice});
      next[slice] += 10;
    }
    arrived = {source, in, nullptr, resources, {}, 1, "c"};
    if (entry)
      work.emplace(flow, arrived, *entry);
    else
      work.emplace(flow, arrived, again);
    work->watch(observer);
    if (measures) work->measure();
    work->advance();
    std::string out;
    for (const Work::Made& made : work->made()) {
      EXPECT_EQ(made.unbalanced, 0u);
      EXPECT_EQ(made.in, made.batch.events.size() + made.dropped);
      if (!made.counts) continue;
      for (const Event& e : made.batch.events)
        out += flow.nodes[made.node].pipeline->name + ":" + std::string(e.body) + "/" +
               std::to_string(e.branch) + "(" + e.find(field_id("way"))->value.to_string() + ") ";
    }
    EXPECT_EQ(work->unbalanced(), 0u);
    return out;
  }
  const Work::Made& made(const std::string& name) {
    for (const Work::Made& m : work->made())
      if (flow.nodes[m.node].pipeline->name == name) return m;
    return work->made().front();
  }
  std::vector<std::string> texts;
  std::vector<std::uint16_t> slices;  // of the lines
  std::vector<std::span<const Field>> resources;
  std::vector<SourceLine> in;
  Arrived arrived;
  std::optional<Work> work;
  FlowObserver* observer = nullptr;
  bool measures = false;
  std::optional<std::size_t> entry;  // the node that the lines enter
};

TEST_F(FlowTest, LinesGoToEveryPipelineThatTakesThem) {
  build({{"p", {"s"}, "body like 'a%'"}, {"q", {"s", "s2"}, "", "body = 'ab'"}, {"r", {"s2"}}});
  EXPECT_EQ(run({"a", "ab", "c"}), "p:a/0(p) p:ab/0(p) q:a/1(q) q:c/0(q) ");
  EXPECT_EQ(run({"ab"}, "s2"), "r:ab/0(r) ");
  EXPECT_EQ(run({"ab"}, "nobody"), "");
  EXPECT_EQ(work->leftovers(), 1u);
  EXPECT_EQ(work->left(), std::vector<std::size_t>{0});
}

// By event of a pipeline: whether one that hides took its line.
TEST_F(FlowTest, WhatAnotherHidesIsKnownByEvent) {
  build({{"open", {"s", "t"}},
         {"hides", {"s"}, "body like 'a%'", "", "body = 'ab'", {""}, true},
         {"behind", {"hides"}},
         {"both", {"hides", "s"}},
         {"later", {"open"}, "body <> 'b'"}});
  slices = {0, 0, 1, 1};
  resources.resize(2);
  run({"a", "b", "ab", "c"});
  using Which = std::vector<bool>;
  EXPECT_EQ(work->hidden_elsewhere(made("open")), (Which{true, false, true, false}));
  EXPECT_EQ(work->hidden_elsewhere(made("hides")), Which{});
  EXPECT_EQ(work->hidden_elsewhere(made("behind")), Which{}) << "it sees only what was masked";
  EXPECT_EQ(work->hidden_elsewhere(made("both")), (Which{true, true, false, true, false}));
  EXPECT_EQ(work->hidden_elsewhere(made("later")), (Which{true, true, false}))
      << "though it was dropped there";
  run({"b"});
  EXPECT_EQ(work->hidden_elsewhere(made("open")), Which{});
  run({"a"}, "t");
  EXPECT_EQ(work->hidden_elsewhere(made("open")), Which{}) << "of that source nothing is hidden";
}

TEST_F(FlowTest, BytesAtStepsAreMeasuredWhenAskedFor) {
  build({{"p", {"s"}}, {"q", {"p"}, "body <> 'abc'"}});
  run({"a", "abc"});
  EXPECT_EQ(made("p").tallies[0].bytes_in, 0u);
  measures = true;
  run({"a", "abc"});
  EXPECT_EQ(made("p").tallies[0].bytes_in, 4u);
  EXPECT_EQ(made("p").tallies[0].bytes_out, 4u + 2 * 1) << "each has a way of one letter";
  EXPECT_EQ(made("q").tallies[0].bytes_in, 2u);
}

// Lines of several streams in one batch: branches are counted by line, and each knows where it came from.
TEST_F(FlowTest, StreamsOfOneBatchAreKeptApart) {
  slices = {0, 0, 1, 1, 2};
  const Field quays[] = {{field_id("quay"), Value::text("north")}, {field_id("quay"), Value::text("south")}};
  resources = {{quays, 1}, {quays + 1, 1}, {}};
  build({{"a", {"s"}, "body <> 'c'"}, {"b", {"s"}, "quay = 'south'"}, {"c", {"a", "b"}}});
  EXPECT_EQ(run({"a", "b", "c", "d", "e"}),
            "a:a/0(a) a:b/0(a) a:d/0(a) a:e/0(a) b:c/0(b) b:d/1(b) "
            "c:a/1(a+c) c:b/1(a+c) c:c/1(b+c) c:d/2(a+c) c:d/3(b+c) c:e/1(a+c) ");
  const Batch& all = made("c").batch;
  EXPECT_EQ(all.get(all.events[1], field_id("quay")).to_string(), "north");
  EXPECT_EQ(all.get(all.events[3], field_id("quay")).to_string(), "south");
  EXPECT_TRUE(all.get(all.events[5], field_id("quay")).absent());
}

TEST_F(FlowTest, ChainsTakeFinishedEventsAndChangeNothingBehindThem) {
  build({{"last", {"first"}, "way = 'first' and body <> 'no'"}, {"first", {"s"}, "", "", "body = 'drop'"}});
  EXPECT_EQ(run({"a", "drop", "no"}), "first:a/0(first) first:no/0(first) last:a/1(first+last) ");
  EXPECT_EQ(flow.nodes[0].pipeline->name, "first");
  EXPECT_TRUE(flow.nodes[0].feeds);
  EXPECT_EQ(flow.nodes[0].number, 1u);
  EXPECT_EQ(made("first").dropped, 1u);
  EXPECT_EQ(made("last").in, 1u);
}

TEST_F(FlowTest, ADiamondBringsAnEventTwiceInTheOrderOfLines) {
  build({{"a", {"s"}}, {"b", {"s"}}, {"c", {"a", "b", "s"}}});
  EXPECT_EQ(
      run({"x", "y"}),
      "a:x/0(a) a:y/0(a) b:x/1(b) b:y/1(b) c:x/2(c) c:x/3(a+c) c:x/4(b+c) c:y/2(c) c:y/3(a+c) c:y/4(b+c) ");
}

TEST_F(FlowTest, LeftoversAreWhatNobodyTookFromItsSource) {
  build({{"rest", {"leftovers"}, "body <> 'lost'"}, {"p", {"s"}, "body like 'a%'"}, {"end", {"rest"}}});
  EXPECT_EQ(run({"a", "b", "lost"}), "rest:b/0(rest) p:a/0(p) end:b/1(rest+end) ");
  EXPECT_EQ(work->leftovers(), 2u);
  EXPECT_EQ(work->left(), std::vector<std::size_t>{2});
  EXPECT_EQ(run({"b"}, "s9"), "rest:b/0(rest) end:b/1(rest+end) ");  // of a source that nobody names
}

TEST_F(FlowTest, LinesMayEnterOnePipelineAlone) {
  build({{"p", {"s"}}, {"q", {"s"}, "body <> 'c'"}, {"rest", {"leftovers"}}, {"end", {"q", "p"}}});
  for (std::size_t i = 0; i < flow.nodes.size(); ++i)
    if (flow.nodes[i].pipeline->name == "q") entry = i;
  EXPECT_EQ(run({"a", "c"}, "another"), "q:a/0(q) end:a/1(q+end) ");
  EXPECT_EQ(work->left(), std::vector<std::size_t>{1});  // and no other takes it
}

TEST_F(FlowTest, WhoseBodyIsNotItsLineIsKnown) {
  build({{"p", {"s"}}});
  run({"a", "b", "c"});
  Work::Made& made = work->made().front();
  EXPECT_EQ(work->altered(made), std::vector<bool>());
  const std::string copy = "a";
  made.batch.events[0].body = copy;  // the same, elsewhere
  made.batch.events[2].body = "";
  made.batch.events.erase(made.batch.events.begin() + 1);
  EXPECT_EQ(work->altered(made), (std::vector<bool>{false, true}));
}

TEST_F(FlowTest, CirclesAreFound) {
  build({{"a", {"c"}}, {"b", {"a"}}, {"c", {"b", "s"}}, {"d", {"c"}}});
  EXPECT_EQ(circle, (std::vector<std::size_t>{0, 2, 1}));
  EXPECT_TRUE(flow.nodes.empty());
  circle.clear();
  build({{"a", {"a", "s"}}});
  EXPECT_EQ(circle, std::vector<std::size_t>{0});
}

TEST_F(FlowTest, ConditionsOfDestinationsSeeTheFinishedEvent) {
  build({{"p", {"s"}, "", "", "", {"way = 'p' and body like 'a%'", "body = 'a'", "body = 'z'"}}});
  run({"a", "ab", "c"});
  const auto& outputs = made("p").outputs;
  ASSERT_EQ(outputs.size(), 2u);  // nothing for the third
  EXPECT_EQ(outputs[0].takes, (std::vector<bool>{true, true, false}));
  EXPECT_EQ(outputs[0].count, 2u);
  EXPECT_EQ(outputs[1].count, 1u);
  EXPECT_EQ(made("p").unrouted, 1u);
  run({"a"});
  EXPECT_TRUE(made("p").outputs[0].takes.empty());  // all of them
}

TEST_F(FlowTest, WhatOthersTakeIsNotUnrouted) {
  build({{"p", {"s"}, "", "", "", {}}, {"q", {"p"}, "body = 'a'"}});
  run({"a", "b"});
  EXPECT_EQ(made("p").unrouted + made("q").unrouted, 0u);
}

TEST_F(FlowTest, WhatIsSentAgainComesOutOnceWithItsBranch) {
  build(
      {{"a", {"s"}, "", "", "", {"", ""}}, {"b", {"s"}}, {"c", {"a", "b"}, "", "", "", {"false", "false"}}});
  run({"x"}, "s", Work::Again{2, 3, 1});
  EXPECT_TRUE(made("a").counts);
  EXPECT_TRUE(made("a").outputs.empty());
  ASSERT_EQ(made("c").outputs.size(), 1u);
  EXPECT_EQ(made("c").outputs[0].destination, 1u);
  EXPECT_EQ(made("c").outputs[0].takes, (std::vector<bool>{false, true}));  // branch 3 came by way of b
  run({"x"}, "s", Work::Again{0, 0, 1});
  EXPECT_FALSE(made("b").counts);
  EXPECT_EQ(made("a").outputs.size(), 1u);
  run({"x"}, "s", Work::Again{2, 77, 0});  // the graph was another one then: all that comes is taken for it
  EXPECT_EQ(made("c").outputs[0].count, 2u);
  run({"x"}, "s", Work::Again{SIZE_MAX, 0, 0});
  for (const Work::Made& m : work->made()) EXPECT_TRUE(m.outputs.empty());
}

TEST_F(FlowTest, ObserversSeeEachStepAndWhatGoesNowhere) {
  struct Told final : FlowObserver {
    std::string all;
    void entered(const Flow::Node& n, const Batch& b) override { tell("in", n, b); }
    void stepped(const Flow::Node& n, const Step& s, const Batch& b) override { tell(s.name.c_str(), n, b); }
    void finished(const Flow::Node& n, const Batch& b) override { tell("out", n, b); }
    void unrouted(const Flow::Node& n, const Batch&, const std::vector<bool>& routed) override {
      all += n.pipeline->name + " nowhere " +
             std::to_string(std::count(routed.begin(), routed.end(), false)) + "; ";
    }
    void tell(const char* what, const Flow::Node& n, const Batch& b) {
      const auto dropped =
          std::count_if(b.events.begin(), b.events.end(), [](const Event& e) { return e.dropped_by; });
      all += n.pipeline->name + " " + what + " " + std::to_string(b.events.size()) + "-" +
             std::to_string(dropped) + "; ";
    }
  } told;
  observer = &told;
  build({{"p", {"s"}, "", "", "body = 'd'", {"body = 'a'"}}, {"q", {"s"}, "false"}});
  run({"a", "b", "d"});
  EXPECT_EQ(told.all, "p in 3-0; p p 3-1; p out 3-1; p nowhere 1; ");
}

// A name that came with the data is one name in all of the pipelines.
TEST_F(FlowTest, PipelinesShareTheNamesOfTheData) {
  build({{"a", {"s"}}, {"b", {"a"}}});
  run({"x"});
  EXPECT_EQ(&work->made()[0].batch.arena.names(), &work->made()[1].batch.arena.names());
}

TEST(SharedEvents, AreCopiedWhenTheyChange) {
  Arena arena;
  Event e;
  for (int i = 0; i < 5; ++i) e.set(arena, field_id("f" + std::to_string(i)), Value::integer(i));
  for (const int what : {0, 1, 2, 3}) {
    Event copy = e;
    copy.share();
    if (what == 0) copy.set(arena, field_id("f1"), Value::integer(9));
    if (what == 1) copy.set(arena, field_id("new"), Value::integer(9));
    if (what == 2) copy.erase(arena, field_id("f0"));
    if (what == 3) copy.reserve(arena, 1);
    EXPECT_NE(copy.fields, e.fields) << what;
    EXPECT_EQ(e.field_count, 5);
    EXPECT_EQ(e.find(field_id("f1"))->value, Value::integer(1));
    EXPECT_EQ(e.find(field_id("f0"))->value, Value::integer(0));
    EXPECT_EQ(copy.find(field_id("f4"))->value, Value::integer(4));
  }
}

}  // namespace
}  // namespace dingle
