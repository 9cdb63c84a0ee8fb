// Which changes of a configuration may hide less: those take the scope that sees lines.
#include <gtest/gtest.h>

#include "agent/configuration.h"
#include "agent/configuration_hiding.h"
#include "agent/sources/source.h"

namespace dingle {
namespace {

std::shared_ptr<const Configuration> with(const std::string& pipelines,
                                          const std::string& more_sources = "") {
  const std::string text =
      "version: 1\nserver: { data: /nowhere }\nsources: { gate: { files: { paths: [/x/gate.log] } }" +
      more_sources + " }\npipelines: { " + pipelines +
      " }\ndestinations: { d: { nowhere: {} }, e: { nowhere: {} } }\n";
  Findings findings(text);
  auto c = read_configuration(text, findings);
  EXPECT_TRUE(c) << text << (findings.all().empty() ? "" : findings.all()[0].message);
  return c;
}

constexpr const char* kMasked =
    "gate: { from: [gate], steps: [ parse: { templates: ['{user:word} {rest}'] }, mask: { fields: [user], "
    "find: [email] }, "
    "set: { fields: { a: 1 } } ], to: [d] }";

TEST(HidesLess, NothingWhereOnlyWhatStandsBehindChanges) {
  const auto before = with(kMasked);
  EXPECT_EQ(hides_less(*before, *with(kMasked)), "");
  std::string behind = kMasked;
  behind.replace(behind.find("a: 1"), 4, "b: 2");
  behind.replace(behind.find("to: [d]"), 7, "to: [d, e]");
  EXPECT_EQ(hides_less(*before, *with(behind)), "");
}

struct Less {
  const char *what, *with;  // of the pipeline's text
};
class HidesLess : public testing::TestWithParam<Less> {};
TEST_P(HidesLess, IsTold) {
  std::string after = kMasked;
  const std::size_t at = after.find(GetParam().what);
  ASSERT_NE(at, std::string::npos);
  after.replace(at, std::string(GetParam().what).size(), GetParam().with);
  EXPECT_NE(hides_less(*with(kMasked), *with(after)), "") << after;
}
INSTANTIATE_TEST_SUITE_P(
    All, HidesLess,
    testing::Values(Less{"fields: [user], find", "find"}, Less{", find: [email] }", " }"},
                    Less{"mask: { fields", "mask: { where: \"rest = 'never'\", fields"},
                    Less{"mask: {", "mask: { off: true,"}, Less{"{user:word}", "{name:word}"},
                    Less{"steps:", "unparsed: pass, steps:"},
                    Less{"steps:", "where: \"body like 'x%'\", steps:"},
                    Less{"gate: { from", "berth: { from"},
                    Less{"gate: { from", "open: { from: [gate], to: [e] }, gate: { from"},
                    Less{"to: [d] }", "to: [d] }, after: { from: [gate], to: [e] }"}));

TEST(HidesLess, ASourceThatNobodyHidesIsTold) {
  EXPECT_NE(hides_less(*with(kMasked), *with(std::string(kMasked) + ", open: { from: [copy], to: [e] }",
                                             ", copy: { files: { paths: [/x/gate.log] } }")),
            "");
}

TEST(HidesLess, NothingIsLessThanNothing) {
  const auto open = with("gate: { from: [gate], to: [d] }");
  EXPECT_EQ(hides_less(*open, *with(kMasked)), "");
  EXPECT_EQ(hides_less(*open, *with("gate: { from: [gate], to: [e] }")), "");
}

// What the configuration says of a line's resource is there once, whatever the source itself knows.
TEST(Resource, HasEachFieldOnceAndTheFirstStays) {
  Resource resource;
  resource.add("host.name", "quay-1");
  resource.add("log.file.path", "/x/gate.log");
  resource.add("host.name", "vm");
  ASSERT_EQ(resource.fields.size(), 2u);
  EXPECT_EQ(resource.fields[0].value.as_text(), "quay-1");
}

}  // namespace
}  // namespace dingle
