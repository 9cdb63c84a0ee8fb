#include <gtest/gtest.h>

#include "core/template/template.h"

namespace dingle {
namespace {

// The table of patterns in the reference is only as good as its examples.
TEST(PatternLibrary, ExamplesMatchAndCounterExamplesDoNot) {
  const PatternLibrary library;
  for (const Pattern* p : library.in_order()) {
    std::vector<Problem> problems;
    // CSV is the one pattern that means nothing without parameters.
    auto t = Template::compile("{x:" + p->name + (p->name == "csv" ? "(ship, berth:int, place)}" : "}"),
                               library, {}, problems);
    ASSERT_TRUE(t) << p->name;
    EXPECT_FALSE(p->examples.empty()) << p->name;
    EXPECT_TRUE(t->warnings().empty()) << p->name;
    Arena arena;
    std::vector<Value> values(t->value_count());
    for (const std::string& example : p->examples) {
      EXPECT_TRUE(t->match(example, {&arena, 1'795'428'000'000'000'000}, values.data()))
          << p->name << " on " << example;
      const Kind kind = p->name == "json" && example[0] == '[' ? Kind::list : p->kind;
      EXPECT_EQ(values[0].kind(), kind) << p->name << " on " << example;
    }
    for (const std::string& example : p->counter_examples)
      EXPECT_FALSE(t->match(example, {&arena, 0}, values.data())) << p->name << " on " << example;
  }
}

}  // namespace
}  // namespace dingle
