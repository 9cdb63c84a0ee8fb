#include "core/options/options.h"

#include <gtest/gtest.h>

#include "core/nearest.h"

namespace dingle {
namespace {

TEST(Size, UnitsAndOverflow) {
  std::int64_t n = 0;
  EXPECT_TRUE(parse_size("64KiB", n));
  EXPECT_EQ(n, 65536);
  EXPECT_TRUE(parse_size("10MB", n));
  EXPECT_EQ(n, 10'000'000);
  EXPECT_FALSE(parse_size("64kib", n));
  EXPECT_FALSE(parse_size("99999999999TiB", n));
  EXPECT_EQ(format_size(1536), "1.5 KiB");
}

TEST(Nearest, OneLetterOrASwapIsNear) {
  EXPECT_EQ(nearest("feild", {"field", "format"}), "field");
  EXPECT_EQ(nearest("xyz", {"field", "format"}), "");
  EXPECT_EQ(did_you_mean("oparations", {"operations"}), "did you mean `operations`?");
}

TEST(Findings, PlaceWithinQuotedScalars) {
  const std::string source = "a: 'it''s {x}'\nb: plain {x}\n";
  Findings findings(source);
  Node quoted;
  quoted.form = Node::Form::scalar;
  quoted.scalar = "it's {x}";
  quoted.place = {1, 4};
  findings.error_within(quoted, {"here", "", 5, 3});
  Node plain = quoted;
  plain.scalar = "plain {x}";
  plain.place = {2, 4};
  findings.error_within(plain, {"here", "", 6, 3});
  EXPECT_EQ(findings.all()[0].place.column, 11u);
  EXPECT_EQ(findings.all()[1].place.column, 10u);
}

TEST(Findings, CaretStandsUnderThePlace) {
  EXPECT_EQ(render({true, {2, 3}, 4, "wrong", "do this"}, "f.yaml", "one\n\xC3\xA9 four\n"),
            "f.yaml:2:3: error: wrong\n  2 | \xC3\xA9 four\n    |  ^~~~\n    = do this\n");
}

}  // namespace
}  // namespace dingle
