#include "core/draft/draft.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <fstream>
#include <random>
#include <set>
#include <sstream>

#include "core/draft/tokens.h"
#include "core/template/template.h"
#include "core/time/instant.h"
#include "tests/core/time_table.h"

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

TEST(Drafts, CsvMayHaveLineFeedsInQuotes) {
  const std::vector<std::string> lines{"at,till,goods,euros,note",
                                       "2026-11-30T09:00:01Z,3,\"Ticket, day\",12.50,",
                                       "2026-11-30T09:00:07Z,3,\"Coffee\",3.20,\"said: \"\"no lid\"\"",
                                       "",
                                       "and sugar\"",
                                       "2026-11-30T09:01:00Z,4,Map,7.10,x",
                                       "2026-11-30T09:02:00Z,4,Map,7.10,y"};
  const Draft d = draft_of(lines);
  EXPECT_EQ(d.join, "quoted: true");
  EXPECT_EQ(d.lines, 5u);
  ASSERT_FALSE(d.templates.empty());
  EXPECT_EQ(d.templates[0].text, "{:csv(at:rfc3339, till:int, goods, euros:decimal, note)}");
  EXPECT_EQ(draft_of({"a,b", "1,\"x", "2,y", "3,z"}).join, "") << "the quote is never closed";
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

std::vector<std::string> texts_of(const std::vector<DraftTemplate>& all) {
  std::vector<std::string> texts;
  for (const DraftTemplate& t : all) texts.push_back(t.text);
  return texts;
}
using testing::ElementsAre;

TEST(DraftParts, PhrasesAtTheEndAreOneField) {
  const Draft draft = draft_of(sample("customs-ids"));
  EXPECT_EQ(draft.templates.size(), 2u);
  for (const DraftTemplate& t : draft.templates) EXPECT_TRUE(t.text.ends_with("|{message}")) << t.text;
  EXPECT_TRUE(draft.heads.empty());
}

TEST(DraftParts, MessagesOfOneLengthArePartedByTheirFirstWords) {
  std::vector<std::string> lines;
  for (int i = 0; i < 40; ++i) {
    lines.push_back("pump " + std::to_string(i % 4) + " pressure " + std::to_string(i) + " kPa");
    lines.push_back("crew door " + std::to_string(i % 5) + " open " + std::to_string(i) + "s");
  }
  EXPECT_THAT(texts_of(draft_of(lines).templates),
              testing::UnorderedElementsAre("pump {pump:int} pressure {pressure:int} kPa",
                                            "crew door {door:int} open {open:duration}"));
}

// What differs in every way, with an address somewhere.
std::vector<std::string> sentences(const char* address) {
  static const char* const kWords[] = {"berth", "ramp",  "closed", "by", "the",
                                       "crew",  "again", "today",  "9",  "x=1"};
  std::mt19937_64 random(7);
  std::vector<std::string> lines;
  for (int i = 0; i < 200; ++i) {
    std::string line;
    for (unsigned n = 2 + random() % 9; n > 0; --n) line += std::string(kWords[random() % 8]) + " ";
    if (i % 2) line += address + std::to_string(i) + (i % 4 == 1 ? ":" + std::to_string(4000 + i) : "") + " ";
    for (unsigned n = random() % 5; n > 0; --n) line += std::string(kWords[random() % 8]) + " ";
    lines.push_back(line + "end");
  }
  return lines;
}

struct Picked {
  const char *written, *pick;
};
class DraftPicks : public testing::TestWithParam<Picked> {};
TEST_P(DraftPicks, AddressesAreTakenFromFreeText) {
  const Draft draft = draft_of(sentences(GetParam().written));
  EXPECT_THAT(texts_of(draft.picks), ElementsAre(GetParam().pick)) << draft.yaml();
}
INSTANTIATE_TEST_SUITE_P(
    Forms, DraftPicks,
    testing::Values(Picked{"from 192.0.2.", "from {client.address:ip}{[}:{client.port:int}{]}"},
                    Picked{"rhost=192.0.2.", "rhost={client.address:ip}{[}:{client.port:int}{]}"},
                    Picked{"unknown[192.0.2.", "[{client.address:ip}{[}:{client.port:int}{]}"},
                    Picked{"peer: 192.0.2.", "peer: {client.address:ip}{[}:{client.port:int}{]}"},
                    Picked{"to 192.0.2.", "to {server.address:ip}{[}:{server.port:int}{]}"},
                    Picked{"{192.0.2.", "{{{client.address:ip}{[}:{client.port:int}{]}"}));

TEST(DraftPicks, ValuesOfAKeyHaveOnePattern) {
  std::vector<std::string> lines = sentences("from 192.0.2.");
  for (std::size_t i = 0; i < lines.size(); ++i) {
    lines[i] += " user=" + std::string(i % 3 ? "anna" : "7") + (i % 2 ? "," : "");
    lines[i] += i % 2 ? " ship=\"Storm Petrel\"" : "";
  }
  EXPECT_THAT(texts_of(draft_of(lines).picks),
              ElementsAre("from {client.address:ip}{[}:{client.port:int}{]}", "user={user.name:/[^\\s,;)]+/}",
                          "ship={ship:quoted}"));
}

TEST(DraftPicks, TwoAddressesOfALineHaveTwoNames) {
  std::vector<std::string> lines = sentences("from 192.0.2.");
  for (std::string& line : lines) line += " relay=198.51.100.7 peer [203.0.113.9]";
  const auto picks = texts_of(draft_of(lines).picks);
  ASSERT_EQ(picks.size(), 3u);
  std::set<std::string> names;
  for (const std::string& text : picks)
    names.insert(text.substr(text.find('{'), text.find(":ip") - text.find('{')));
  EXPECT_EQ(names.size(), 3u) << picks[0] << picks[1] << picks[2];
}

// A text may have any number of places: some of them are looked at.
TEST(DraftPicks, ATextOfAddressesAloneIsBounded) {
  std::vector<std::string> lines = sentences("from 192.0.2.");
  for (std::size_t i = 0; i < lines.size(); ++i)
    for (int k = 0; k < 150; ++k)
      lines[i] +=
          " k" + std::string(1, static_cast<char>('a' + (i + k) % 26)) + "=198.51.100." + std::to_string(k);
  EXPECT_LE(draft_of(lines).picks.size(), 16u);
}

// What a head and rests, and picks, find is what whole templates would.
TEST(DraftHeads, WhatManyTemplatesShareIsParsedOnce) {
  std::vector<std::string> lines;
  for (int i = 0; i < 60; ++i) {
    const std::string n = std::to_string(i);
    const std::string head = "2026-11-23T10:00:" + std::string(i % 60 < 10 ? "0" : "") +
                             std::to_string(i % 60) + "Z [pump-" + n + "] ";
    lines.push_back(head + "pressure " + n + " kPa");
    lines.push_back(head + "valve " + n + " opened in " + n + "ms");
    lines.push_back(head + "filter changed (part " + n + ", box " + n + ")");
    lines.push_back(head + "started, version 1." + n + ".3, by crew " + n);
  }
  const Draft draft = draft_of(lines);
  EXPECT_EQ(draft.unexplained, 0u);
  ASSERT_EQ(draft.heads.size(), 1u) << draft.yaml();
  EXPECT_TRUE(draft.heads[0].starts_with("{at:rfc3339} [")) << draft.heads[0];
  const std::string yaml = draft.yaml();
  EXPECT_EQ(yaml.find("{at:rfc3339}"), yaml.rfind("{at:rfc3339}")) << yaml;
  EXPECT_NE(yaml.find("field: message"), std::string::npos) << yaml;
}

TEST(DraftTimes, EveryWrittenFormIsFound) {
  for (const WrittenTime& written : kWrittenTimes) {
    const std::string_view text = written.text;
    if (text.find_first_not_of("0123456789.") == text.npos) continue;  // any number
    std::vector<std::string> lines;
    for (const char* what : {"berth 4 free", "ramp up", "gate 7 shut by crew", "all well"})
      lines.push_back(std::string(written.text) + " " + what);
    const Draft draft = draft_of(lines);
    EXPECT_FALSE(draft.time_field.empty()) << written.text << "\n" << draft.yaml();
  }
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
