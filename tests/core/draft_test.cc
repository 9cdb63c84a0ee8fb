#include "core/draft/draft.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <fstream>
#include <random>
#include <sstream>

#include "core/draft/tokens.h"
#include "core/template/template.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

const std::int64_t kNow = *parse_moment("2026-11-23T10:00:00Z", 0);

Draft draft_of(const std::vector<std::string>& lines) {
  return draft_templates({lines.begin(), lines.end()}, kNow);
}

std::vector<std::string> sample(const std::string& name) {
  std::ifstream in(std::string(DINGLE_SOURCE) + "/demo/samples/" + name + ".log");
  std::vector<std::string> lines;
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  return lines;
}

struct Shape {
  const char *line, *shape;
};
class Shapes : public testing::TestWithParam<Shape> {};
TEST_P(Shapes, ValuesAreTakenOut) { EXPECT_EQ(shape_of(GetParam().line, kNow), GetParam().shape); }
INSTANTIATE_TEST_SUITE_P(Lines, Shapes,
                         testing::Values(Shape{"berth 4 free", "berth {int} free"},
                                         Shape{"2026-11-23T10:00:00Z gate-7 up", "{time} {word} up"},
                                         Shape{"192.0.2.7:80 took 12ms", "{ip}:{int} took {duration}"},
                                         Shape{"a=\"x y\" b=1.5", "a={quoted} b={decimal}"},
                                         Shape{"{\"a\":1} sent", "{json} sent"},
                                         Shape{"id 123e4567-e89b-12d3-a456-426614174000", "id {uuid}"},
                                         Shape{"GET /a/b?c=1 done", "GET {path} done"}, Shape{"", ""}));

TEST(Tokens, CoverTheLineWithoutGaps) {
  std::mt19937_64 random(5);
  for (int i = 0; i < 3000; ++i) {
    std::string line;
    for (unsigned n = random() % 60; n > 0; --n) line += "ab1 -:/.[]{}\"'=,<>\t\xC3\x00Z2T"[random() % 25];
    std::string joined;
    for (const Token& t : tokens_of(line, kNow)) joined += t.text;
    ASSERT_EQ(joined, line);
  }
}

struct Service {
  const char* sample;
  double explained;                // at least; what is not well-formed in the samples is left out on purpose
  std::vector<std::string> parts;  // that the templates have
};
class Services : public testing::TestWithParam<Service> {};
TEST_P(Services, AreDrafted) {
  const Draft draft = draft_of(sample(GetParam().sample));
  EXPECT_GE(1 - static_cast<double>(draft.unexplained) / static_cast<double>(draft.lines),
            GetParam().explained);
  const std::string yaml = draft.yaml();
  for (const std::string& part : GetParam().parts)
    EXPECT_NE(yaml.find(part), std::string::npos) << part << "\n" << yaml;
}
INSTANTIATE_TEST_SUITE_P(
    SkerryLine, Services,
    testing::Values(
        Service{"ticket-gate",
                1,
                {"{client.address:ip}", "[{at:clf_time}]", "{http.response.status_code:int}",
                 "{trace_id:trace_id}", "gate {gate:int} watchdog"}},
        Service{"manifest-api", 0.98, {"- json: {}", "time: { field: time }"}},
        Service{"berthing",
                1,
                {"starts_with: '{:rfc3339}'", "{severity:level}", "{logger:class_name}",
                 "{exception.stacktrace:rest}"}},
        Service{
            "tide-gauge", 0.98, {"{:csv(at:rfc3339, harbour, level_m:decimal, surge_m:decimal, quality)}"}},
        Service{"crane-ctl", 1, {"{:pairs}", "time: { field: ts }"}},
        Service{"radio-bridge",
                1,
                {"{:syslog_priority}", "{at:syslog_time}", "{host.name:unspaced}", "channel {channel:int}"}},
        Service{
            "customs-ids",
            1,
            {"{at:slash_time}", "{client.address:ip}:{client.port:int}>{server.address:ip}:{server.port:int}",
             "score {score:int}"}}));

TEST(DraftNames, ComeFromKeysWordsAndConventions) {
  EXPECT_EQ(draft_of({"user=ann took 5 ms", "user=bob took 17 ms", "user=eve took 1 ms"}).templates[0].text,
            "user={user.name:word} took {duration:duration}");
}

TEST(DraftNames, ANumberIsNoAddress) {
  EXPECT_EQ(draft_of({"*1 client gone", "*2 client gone", "*7 client gone"}).templates[0].text,
            "*{number:int} client gone");
}

TEST(DraftParts, OptionalOnesAreFound) {
  std::vector<std::string> lines;
  for (int i = 0; i < 20; ++i) lines.push_back("ship " + std::to_string(i) + (i % 2 ? " delayed by 4m" : ""));
  EXPECT_EQ(draft_of(lines).templates[0].text, "ship {ship:int}{[} delayed by {duration:duration}{]}");
}

TEST(DraftParts, AmbiguousOrderOfDayAndMonthIsSaid) {
  const Draft draft = draft_of({"03/04/2026 10:00:00 up", "05/04/2026 10:00:00 up"});
  EXPECT_EQ(draft.templates[0].text, "{at:day_first_time} up");
  ASSERT_EQ(draft.notes.size(), 1u);
  EXPECT_NE(draft.notes[0].find("either way round"), std::string::npos);
  EXPECT_EQ(draft_of({"03/04/2026 10:00:00 up", "04/25/2026 10:00:00 up"}).templates[0].text,
            "{at:month_first_time} up");
}

TEST(DraftParts, LiteralBracesAreDoubled) {
  const Draft draft = draft_of({"x {1} y", "x {2} y", "x {3} y"});
  EXPECT_EQ(draft.templates[0].text, "x {{{number:int}}} y");
}

// Whatever the lines are: every template compiles, and each line is counted once.
TEST(DraftParts, AnyBytesGiveTemplatesThatCompile) {
  std::mt19937_64 random(11);
  const PatternLibrary library;
  for (int round = 0; round < 150; ++round) {
    std::vector<std::string> lines;
    for (int i = 0; i < 30; ++i) {
      std::string line;
      for (unsigned n = random() % 12; n > 0; --n) {
        static const char* const kPieces[] = {
            "berth ",    "4", "{",    "}", "a=b ", "\"x y\" ", "12ms",
            "192.0.2.7", " ", "\xFF", "=", "<a>",  "INFO ",    "2026-11-23T10:00:00Z "};
        line += kPieces[random() % 14];
      }
      lines.push_back(line);
    }
    const Draft draft = draft_of(lines);
    std::size_t counted = draft.unexplained;
    for (const DraftTemplate& t : draft.templates) {
      counted += t.lines;
      std::vector<Problem> problems;
      EXPECT_TRUE(Template::compile(t.text, library, {}, problems)) << t.text;
    }
    EXPECT_EQ(draft.json ? draft.lines : counted, draft.lines);
  }
}

}  // namespace
}  // namespace dingle
