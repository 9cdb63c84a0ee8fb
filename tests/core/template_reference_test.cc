// Random templates on random lines, against the reference of docs/templates.md.
#define PCRE2_CODE_UNIT_WIDTH 8
#include <gtest/gtest.h>

#include <random>

#include "tests/core/template_check.h"
#include "tests/core/template_difference.h"

namespace dingle {
namespace {

class Random final : public TemplateGrammar {
 public:
  explicit Random(std::uint64_t seed) : random_(seed) {}
  unsigned below(unsigned n) override { return static_cast<unsigned>(random_() % n); }

 private:
  std::mt19937_64 random_;
};

// In four parts, which may run side by side.
class TemplateReference : public testing::TestWithParam<std::uint64_t> {};

TEST_P(TemplateReference, RandomTemplatesOnRandomLines) {
  Random random(20261123 + GetParam());
  Differences differences;
  for (int round = 0; round < 2000; ++round) {
    const std::string difference = differences.try_one(random, 12);
    ASSERT_EQ(difference, "");
  }
  EXPECT_GT(differences.compiled, 500);
  EXPECT_GT(differences.matched, 750);
}
INSTANTIATE_TEST_SUITE_P(Parts, TemplateReference, testing::Range<std::uint64_t>(0, 4));

// Sets of templates against the same templates tried one after the other.
TEST(SetReference, SetsAgreeWithTryingInOrder) {
  Random random(7);
  const PatternLibrary library;
  int matched = 0, later = 0;
  for (int round = 0; round < 400; ++round) {
    std::vector<std::shared_ptr<const Template>> all;
    std::vector<TemplateGrammar::Nodes> nodes;
    // Some share their beginnings or their ends: grown from one another.
    for (unsigned n = 2 + random.below(30); n > 0; --n) {
      TemplateGrammar::Nodes own = random.nodes();
      if (!nodes.empty() && random.below(2)) {
        TemplateGrammar::Nodes begin = nodes[random.below(static_cast<unsigned>(nodes.size()))];
        begin.resize(std::min<std::size_t>(begin.size(), 1 + random.below(4)));
        std::vector<Problem> ignored;
        for (auto& node : own) begin.push_back(node);
        if (Template::compile(TemplateGrammar::template_of(begin), library, {}, ignored)) own = begin;
      }
      if (!nodes.empty() && random.below(2)) {
        const TemplateGrammar::Nodes& other = nodes[random.below(static_cast<unsigned>(nodes.size()))];
        TemplateGrammar::Nodes whole = own;
        whole.resize(std::min<std::size_t>(whole.size(), 2));
        for (std::size_t i = std::min<std::size_t>(other.size(), random.below(3)); i < other.size(); ++i)
          whole.push_back(other[i]);
        std::vector<Problem> ignored;
        if (Template::compile(TemplateGrammar::template_of(whole), library, {}, ignored)) own = whole;
      }
      std::vector<Problem> problems;
      auto t = Template::compile(TemplateGrammar::template_of(own), library, {}, problems);
      if (!t) continue;
      all.push_back(t);
      nodes.push_back(own);
    }
    if (all.empty()) continue;
    const TemplateSet set(all);
    for (int k = 0; k < 60; ++k) {
      std::string line = random.line_of(nodes[random.below(static_cast<unsigned>(nodes.size()))]);
      Arena arena;
      const MatchContext context{&arena, 0};
      int expected = -1;
      std::vector<Value> own, of_set;
      for (std::size_t i = 0; i < all.size() && expected < 0; ++i) {
        own.assign(all[i]->value_count(), Value());
        if (all[i]->match(line, context, own.data())) expected = static_cast<int>(i);
      }
      ASSERT_EQ(set.match(line, context, of_set), expected) << line;
      if (expected < 0) continue;
      ++matched;
      later += expected > 0;
      for (std::size_t s = 0; s < all[static_cast<std::size_t>(expected)]->slots().size(); ++s)
        ASSERT_EQ(of_set[s], own[s]) << line << " slot " << s;
    }
    for (auto [late, early] : set.shadowed()) {
      // What is said to be taken before must be taken before.
      for (int k = 0; k < 20; ++k) {
        const std::string line = random.line_of(nodes[late]);
        Arena arena;
        std::vector<Value> values(500);
        if (!all[late]->match(line, {&arena, 0}, values.data())) continue;
        EXPECT_TRUE(all[early]->match(line, {&arena, 0}, values.data()))
            << all[early]->text() << " does not take what " << all[late]->text() << " takes: " << line;
      }
    }
  }
  EXPECT_GT(matched, 1000);
  EXPECT_GT(later, 300);
}

}  // namespace
}  // namespace dingle
