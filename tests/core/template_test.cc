#include "core/template/template.h"

#include <gtest/gtest.h>

#include <cstdlib>
#include <random>

#include "tests/core/template_check.h"

namespace dingle {
namespace {

std::shared_ptr<const Template> compile(const std::string& text, bool open_end = false) {
  static const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile(text, library, {.open_end = open_end}, problems);
  for (const Problem& p : problems) ADD_FAILURE() << text << ": " << p.message;
  return t;
}

// "name=value name=value", "no match" with the place otherwise.
std::string result(const std::string& text, const std::string& line, bool open_end = false) {
  auto t = compile(text, open_end);
  if (!t) return "does not compile";
  Arena arena;
  const MatchContext context{&arena, 1'795'428'000'000'000'000};
  const MatchCheck check = match_everywhere(t, line, arena);
  EXPECT_EQ(check.disagreement, "") << text << " on " << line;
  if (!check.matched) return "column " + std::to_string(t->explain(line, context).offset + 1);
  std::string out;
  auto show = [&](std::string_view name, const Value& value) {
    if (!value.absent()) out += (out.empty() ? "" : " ") + std::string(name) + "=" + value.to_string();
  };
  for (std::size_t i = 0; i < check.values.size(); ++i) show(t->slots()[i].name, check.values[i]);
  std::vector<Field> found;
  std::vector<Value> values(t->value_count());
  t->match(line, {&arena, context.reference, &found, nullptr}, values.data());
  for (const Field& f : found) show(field_name(f.name), f.value);
  return out;
}

struct TemplateCase {
  const char *text, *line, *expected;
};

class TemplateMatches : public testing::TestWithParam<TemplateCase> {};
TEST_P(TemplateMatches, AsWritten) {
  EXPECT_EQ(result(GetParam().text, GetParam().line), GetParam().expected)
      << GetParam().text << " on " << GetParam().line;
}

INSTANTIATE_TEST_SUITE_P(
    Literals, TemplateMatches,
    testing::Values(TemplateCase{"gate [{n:int}]", "gate [7]", "n=7"},
                    TemplateCase{"a.b*c\\d(e) {x:word}", "a.b*c\\d(e) y", "x=y"},
                    TemplateCase{"{{{x:int}}}", "{5}", "x=5"}, TemplateCase{"{{}} {x:int}", "{} 5", "x=5"},
                    TemplateCase{"same", "same", ""}, TemplateCase{"same", "some", "column 2"},
                    TemplateCase{"same", "sam", "column 4"}, TemplateCase{"same", "same!", "column 5"}));

INSTANTIATE_TEST_SUITE_P(
    Captures, TemplateMatches,
    testing::Values(TemplateCase{"{a} {b}", "one two three", "a=one b=two three"},
                    TemplateCase{"{a}: {b}", "k: v: w", "a=k b=v: w"},
                    TemplateCase{"user=\"{user}\"", "user=\"\"", "user="},
                    TemplateCase{"{:word} {b:word}", "skip keep", "b=keep"},
                    TemplateCase{"{a:word}-{b:word}", "x-y", "a=x b=y"},
                    TemplateCase{"{a:unspaced} {b:rest}", "/gate/7 and more", "a=/gate/7 b=and more"},
                    TemplateCase{"{a:word} end", "/x end", "column 1"},
                    TemplateCase{"{a:alphabetic}{b:int}", "abc12", "a=abc b=12"},
                    TemplateCase{"{a:quoted} {b:int}", "\"say \\\"hi\\\"\" 3", "a=say \"hi\" b=3"},
                    TemplateCase{"{a:line}\n{b:rest}", "first\nsecond\nthird", "a=first b=second\nthird"}));

INSTANTIATE_TEST_SUITE_P(
    Typed, TemplateMatches,
    testing::Values(
        TemplateCase{"{x:int}", "-17", "x=-17"},
        TemplateCase{"{x:int}", "9223372036854775807", "x=9223372036854775807"},
        TemplateCase{"{x:int}", "-9223372036854775808", "x=-9223372036854775808"},
        TemplateCase{"{x:int}", "9223372036854775808", "column 1"}, TemplateCase{"{x:int}.", "12.", "x=12"},
        TemplateCase{"{x:decimal}", "1.5e3", "x=1500"}, TemplateCase{"{x:decimal}.", "12..", "column 4"},
        TemplateCase{"{x:decimal}", "+2.5", "x=2.5"}, TemplateCase{"{x:hex}", "0x1F", "x=31"},
        TemplateCase{"{x:boolean}", "Yes", "x=true"}, TemplateCase{"{x:boolean}", "truely", "column 1"},
        TemplateCase{"{x:level} {y}", "WARN ok", "x=WARN y=ok"},
        TemplateCase{"{x:ip}", "192.0.2.255", "x=192.0.2.255"},
        TemplateCase{"{x:ip}5", "192.0.2.2555", "x=192.0.2.255"},
        TemplateCase{"{x:ip}", "192.0.2.256", "column 11"},
        TemplateCase{"{x:ip}", "2001:db8::7", "x=2001:db8::7"},
        TemplateCase{"{x:ip}:{p:port}", "192.0.2.1:443", "x=192.0.2.1 p=443"},
        TemplateCase{"{p:port}", "70000", "column 1"},
        TemplateCase{"{x:mac}", "00:00:5e:00:53:01", "x=00:00:5e:00:53:01"},
        TemplateCase{"{x:uuid}", "123e4567-e89b-12d3-a456-426614174000",
                     "x=123e4567-e89b-12d3-a456-426614174000"},
        TemplateCase{"[{at:clf_time}]", "[23/Nov/2026:10:00:00 +0100]", "at=2026-11-23T09:00:00Z"},
        TemplateCase{"{at:rfc3339} x", "2026-11-23 10:00:00,125 x", "at=2026-11-23T10:00:00.125Z"}));

INSTANTIATE_TEST_SUITE_P(
    OptionalAndChoice, TemplateMatches,
    testing::Values(TemplateCase{"a{[} b={b:int}{]} c", "a b=1 c", "b=1"},
                    TemplateCase{"a{[} b={b:int}{]} c", "a c", ""},
                    TemplateCase{"a{[} b={b:int}{]} c", "a b=x c", "column 5"},
                    TemplateCase{"{m}{[} trace={t:word}{]}", "went well trace=abc", "m=went well t=abc"},
                    TemplateCase{"{m}{[} trace={t:word}{]}", "went well", "m=went well"},
                    TemplateCase{"{(}GET{|}PUT{)} {p}", "PUT /x", "p=/x"},
                    TemplateCase{"{(}id {a:int}{|}name {b:word}{)}", "name tern", "b=tern"},
                    TemplateCase{"{(}id {a:int}{|}name {a:word}{)}", "name tern", "a=tern"},
                    TemplateCase{"{(}ab{|}abc{)}d", "abcd",
                                 "column 3"},  // committed: the first alternative that matches is final
                    TemplateCase{"x{ }y", "x \t y", ""}, TemplateCase{"{a}{ }y", "x   y", "a=x"},
                    TemplateCase{"{[}{a:int} {]}{b:word}", "12 x", "a=12 b=x"}));

INSTANTIATE_TEST_SUITE_P(
    Regexes, TemplateMatches,
    testing::Values(TemplateCase{"{b:/[A-Z]{2}-\\d{2}/} free", "NQ-07 free", "b=NQ-07"},
                    TemplateCase{"{b:/a+/}ab", "aaab", "column 4"},    // atomic: what a regex took it keeps
                    TemplateCase{"x{b:/(?<=x)y/}", "xy", "column 2"},  // and it sees nothing before its place
                    TemplateCase{"{a} {b:/\\d+/}", "one 22", "a=one b=22"},
                    // Its named groups are fields.
                    TemplateCase{"{:/(?<ship>\\w+) at (?<berth>\\w+)/}!", "tern at north!",
                                 "ship=tern berth=north"},
                    TemplateCase{"{all:/(?<a>x)?(?<b>y)?z/}", "yz", "all=yz b=y"},
                    TemplateCase{"{[}{:/(?<a>\\d+)/}!{]}{b}", "12?", "b=12?"},
                    TemplateCase{"{(}{:/(?<a>\\d+)/}!{|}{b}{)}", "12?", "b=12?"},
                    TemplateCase{"{(}{:/(?<a>\\d+)/}{|}{:/(?<a>\\w+)/}{)}", "tern", "a=tern"},
                    TemplateCase{"{:/(?<_q>[\"'])(?<a>.*?)\\k<_q>/}", "'tern'", "a=tern"}));

// The short way of reading decimals must agree with the careful one to the last bit.
TEST(Template, DecimalsAreTheNearestDoubles) {
  auto t = compile("{x:decimal}");
  std::mt19937_64 random(6);
  for (int i = 0; i < 20'000; ++i) {
    std::string text = random() % 3 ? "" : "-";
    for (std::uint64_t n = 1 + random() % 18; n > 0; --n) text += static_cast<char>('0' + random() % 10);
    if (random() % 4) text.insert(text.size() - 1 - random() % (text.size() - (text[0] == '-')), ".");
    Value values[2];
    text.reserve(text.size() + kReadAhead);
    const MatchContext padded{nullptr, 0, nullptr, text.data() + text.capacity()};
    ASSERT_TRUE(t->match(text, random() % 2 ? padded : MatchContext{}, values)) << text;
    ASSERT_EQ(values[0].as_decimal(), std::strtod(text.c_str(), nullptr)) << text;
  }
}

TEST(Template, OpenEndMatchesTheBeginning) {
  EXPECT_EQ(result("{at:int} ", "5 and more", true), "at=5");
  EXPECT_EQ(result("{at:int} ", "x and more", true), "column 1");
}

TEST(Template, LaterMatchForgetsOptionalFieldsOfAnEarlierOne) {
  auto t = compile("a{[} b={b:int}{]}");
  std::vector<Value> values(1);
  ASSERT_TRUE(t->match("a b=1", {}, values.data()));
  ASSERT_TRUE(t->match("a", {}, values.data()));
  EXPECT_TRUE(values[0].absent());
}

TEST(Template, ASyslogPriorityIsAFacilityAndASeverity) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile("<{:syslog_priority}>", library, {}, problems);
  ASSERT_TRUE(t);
  std::vector<Value> values(t->value_count());
  for (auto [text, facility, severity] : {std::tuple{"<0>", 0, "emergency"},
                                          {"<34>", 4, "critical"},
                                          {"<165>", 20, "notice"},
                                          {"<191>", 23, "debug"}}) {
    ASSERT_TRUE(t->match(text, {}, values.data())) << text;
    EXPECT_EQ(values[0], Value::integer(facility));
    EXPECT_EQ(values[1].to_string(), severity);
  }
  for (const char* none : {"<192>", "<034>", "<>", "<-1>", "<1a>", "<99999999999999999999>"})
    EXPECT_FALSE(t->match(none, {}, values.data())) << none;
}

struct HeaderCase {
  const char *line, *fields;
};
class SyslogHeaders : public testing::TestWithParam<HeaderCase> {};
TEST_P(SyslogHeaders, AreOnePattern) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile("{:syslog}{[} {message}{]}", library, {}, problems);
  ASSERT_TRUE(t);
  std::vector<Value> values(t->value_count());
  Arena arena;
  const MatchContext context{&arena, 1'795'428'000'000'000'000};
  std::string shown;
  if (t->match(GetParam().line, context, values.data()))
    for (std::size_t i = 0; i < values.size(); ++i)
      if (!values[i].absent())
        shown += (shown.empty() ? "" : "|") + std::to_string(i) + "=" + values[i].to_string();
  EXPECT_EQ(shown, GetParam().fields);
}
// 0 facility, 1 severity, 2 timestamp, 3 host, 4 program, 5 process, 6 message id, 7 structured data, 8 what is behind
INSTANTIATE_TEST_SUITE_P(
    All, SyslogHeaders,
    testing::Values(
        HeaderCase{"<165>1 2026-11-23T10:00:00.5Z quay-1 gate 71 SCAN - Tern docked",
                   "0=20|1=notice|2=2026-11-23T10:00:00.500Z|3=quay-1|4=gate|5=71|6=SCAN|8=Tern docked"},
        HeaderCase{"<165>1 - - - - - [a b=\"\\]c]\"][d] x y", "0=20|1=notice|7=[a b=\"\\]c]\"][d]|8=x y"},
        HeaderCase{"<14>1 2026-11-23T10:00:00+01:00 h a p-7 - -",
                   "0=1|1=info|2=2026-11-23T09:00:00Z|3=h|4=a|5=p-7"},
        HeaderCase{"<34>Nov 23 10:00:00 quay-1 gate[71]: Tern docked",
                   "0=4|1=critical|2=2026-11-23T10:00:00Z|3=quay-1|4=gate|5=71|8=Tern docked"},
        HeaderCase{"Nov 23 10:00:00 quay-1 gate: Tern", "2=2026-11-23T10:00:00Z|3=quay-1|4=gate|8=Tern"},
        HeaderCase{"<34>Nov 23 10:00:00 gate[x1]: Tern",
                   "0=4|1=critical|2=2026-11-23T10:00:00Z|4=gate|5=x1|8=Tern"},
        HeaderCase{"2026-11-23T10:00:00.123456+01:00 quay-1 rsyslogd: Tern",
                   "2=2026-11-23T09:00:00.123456Z|3=quay-1|4=rsyslogd|8=Tern"},
        HeaderCase{"<34>Nov 23 10:00:00 quay-1 no tag here",
                   "0=4|1=critical|2=2026-11-23T10:00:00Z|3=quay-1|8=no tag here"},
        HeaderCase{"<34>Nov 23 10:00:00 quay-1 a/b.c-d_e[12]:",
                   "0=4|1=critical|2=2026-11-23T10:00:00Z|3=quay-1|4=a/b.c-d_e|5=12"},
        HeaderCase{"<192>Nov 23 10:00:00 quay-1 gate: x", ""}, HeaderCase{"<34>1 2026-11-23 h a p m - x", ""},
        HeaderCase{"<34>1 - h a p m [open x", ""}, HeaderCase{"<34>1 - h a p", ""}, HeaderCase{"<34>", ""},
        HeaderCase{"<34", ""}, HeaderCase{"Tern docked", ""}, HeaderCase{"", ""}));

TEST(Template, ATraceparentIsTwoIds) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile("{:traceparent}", library, {}, problems);
  ASSERT_TRUE(t);
  std::vector<Value> values(t->value_count());
  ASSERT_TRUE(t->match("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01", {}, values.data()));
  EXPECT_EQ(values[0].to_string() + " " + values[1].to_string() + " " + values[2].to_string(),
            "4bf92f3577b34da6a3ce929d0e0e4736 00f067aa0ba902b7 01");
  for (const char* none : {"ff-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01",
                           "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-0",
                           "00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01",
                           "00-4bf92f3577b34da6a3ce929d0e0e4736_00f067aa0ba902b7-01"})
    EXPECT_FALSE(t->match(none, {}, values.data())) << none;
}

TEST(Template, IdsAreOfHexadecimalDigitsAtEveryPlace) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  for (auto [pattern, example] : {std::pair{"trace_id", "4bf92f3577b34da6a3ce929d0e0e4736"},
                                  {"span_id", "00f067aa0ba902B7"},
                                  {"uuid", "123e4567-e89b-12d3-A456-426614174000"}}) {
    auto t = Template::compile(std::string("{x:") + pattern + "}", library, {}, problems);
    std::vector<Value> values(t->value_count());
    for (std::size_t at = 0; example[at] != '\0'; ++at)
      for (int byte = 0; byte < 256; ++byte) {
        std::string text = example;
        text[at] = static_cast<char>(byte);
        const bool good = example[at] == '-' ? byte == '-' : std::isxdigit(byte) != 0;
        ASSERT_EQ(t->match(text, {}, values.data()), good) << pattern << " " << at << " " << byte;
      }
    EXPECT_FALSE(t->match(std::string(example) + "0", {}, values.data()));
    EXPECT_FALSE(t->match(std::string(example).substr(1), {}, values.data()));
    EXPECT_FALSE(t->match("", {}, values.data()));
  }
}

TEST(Template, NamedTemplatesBringTheirFields) {
  PatternLibrary library;
  library.add({.name = "peer", .form = PatternForm::template_text, .source = "{address:ip}:{port:port}"});
  library.add({.name = "code", .form = PatternForm::regex, .kind = Kind::integer, .source = "\\d{3}"});
  std::vector<Problem> problems;
  auto t = Template::compile("{from:peer} > {:code} {status:code}", library, {}, problems);
  ASSERT_TRUE(t) << problems[0].message;
  std::vector<Value> values(t->value_count());
  ASSERT_TRUE(t->match("192.0.2.1:80 > 100 200", {}, values.data()));
  ASSERT_EQ(t->slots().size(), 4u);
  EXPECT_EQ(values[0].to_string(), "192.0.2.1:80");
  EXPECT_EQ(values[3].kind(), Kind::integer);
}

TEST(Template, PatternsThatUseThemselvesAreRefused) {
  PatternLibrary library;
  library.add({.name = "a", .form = PatternForm::template_text, .source = "x{:b}"});
  library.add({.name = "b", .form = PatternForm::template_text, .source = "y{:a}"});
  std::vector<Problem> problems;
  EXPECT_FALSE(Template::compile("{:a}", library, {}, problems));
  ASSERT_FALSE(problems.empty());
  EXPECT_NE(problems[0].message.find("a → b → a"), std::string::npos) << problems[0].message;
}

TEST(Template, FailureSaysColumnExpectedAndFound) {
  auto t = compile("{client.address:ip} {status:int} {size:int}");
  Mismatch m = t->explain("192.0.2.7 OK 5", {});
  EXPECT_EQ(m.sentence(), "column 11: expected a whole number, found \"OK 5\"");
  ASSERT_EQ(m.so_far.size(), 1u);
  EXPECT_EQ(m.so_far[0].first, "client.address");
  EXPECT_EQ(t->explain("192.0.2.7 200 5 more", {}).sentence(),
            "column 16: expected the end of the line, found \" more\"");
  EXPECT_EQ(t->explain("192.0.2.7", {}).sentence(), "column 10: expected \" \", found the end of the line");
}

TEST(Template, AFailureInCsvNamesItsColumnAndPlace) {
  auto t = compile("{at:int} {:csv(ship, berth:int, , place)}");
  auto why = [&](const char* line) { return t->explain(line, {}).sentence(); };
  EXPECT_EQ(why("7 Kittiwake,four,x,y"), "column 13: expected int in column 2, `berth`, found \"four,x,y\"");
  EXPECT_EQ(why("7 Kittiwake,4"), "column 14: expected `,` and cell 3, found the end of the line");
  EXPECT_EQ(why("7 Kittiwake,4,x"),
            "column 16: expected `,` and column 4, `place`, found the end of the line");
  EXPECT_EQ(why("7 \"Kitti,4,x,y"),
            "column 3: expected a closing quote of column 1, `ship`, found \"\"Kitti,4,x,y\"");
  EXPECT_EQ(why("7 Kittiwake,4,x,y,z"), "column 18: expected the end of the line, found \",z\"");
  EXPECT_EQ(why("7 \"Kitti\"wake,4,x,y"),
            "column 10: expected `,` and column 2, `berth`, found \"wake,4,x,y\"");
}

TEST(Template, FailureAfterAnOptionalPartNamesBoth) {
  EXPECT_EQ(compile("a{[}b{]}c")->explain("ax", {}).sentence(),
            "column 2: expected \"b\" or \"c\", found \"x\"");
}

struct BadTemplate {
  const char* text;
  std::size_t offset;
  const char* message;
  const char* hint;
};
class RefusedTemplate : public testing::TestWithParam<BadTemplate> {};
TEST_P(RefusedTemplate, WithPlaceAndHint) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  EXPECT_FALSE(Template::compile(GetParam().text, library, {}, problems));
  ASSERT_FALSE(problems.empty());
  EXPECT_EQ(problems[0].offset, GetParam().offset) << problems[0].message;
  EXPECT_NE(problems[0].message.find(GetParam().message), std::string::npos) << problems[0].message;
  EXPECT_NE(problems[0].hint.find(GetParam().hint), std::string::npos) << problems[0].hint;
}
INSTANTIATE_TEST_SUITE_P(
    Templates, RefusedTemplate,
    testing::Values(
        BadTemplate{"{status:itn}", 8, "unknown pattern `itn`", "did you mean `int`?"},
        BadTemplate{"a {b", 2, "not closed", "close it with }"}, BadTemplate{"a } b", 2, "single `}`", "}}"},
        BadTemplate{"{a:int} {a:int}", 8, "captured twice", "another name"},
        BadTemplate{"{a:int} {:/(?<a>x)/}", 8, "captured twice", "another name"},
        BadTemplate{"{:/(?<dingle>x)(?<timestamp>y)/}", 0, "belongs to the event", "step `time`"},
        BadTemplate{"{int:count}", 5, "unknown pattern `count`", "the field comes first: {count:int}"},
        BadTemplate{"{a}{b}", 0, "nothing says where", "literal"},
        BadTemplate{"{a:word}{b:int}", 0, "nothing says where", "literal"},
        BadTemplate{"{}", 0, "empty braces", "{{}}"},
        BadTemplate{"{x:}", 0, "missing after the colon", "{name:word}"},
        BadTemplate{"{1x:int}", 1, "not a field name", "letter"},
        BadTemplate{"{x:/a(/}", 6, "regex is not valid", ""}, BadTemplate{"{x:/a\\Kb/}", 5, "\\K", ""},
        BadTemplate{"{[}a", 0, "not closed", "{]}"}, BadTemplate{"a{]}", 1, "closes nothing", ""},
        BadTemplate{"{a:int}5 {b}", 0, "can never match", "{a:digits(..3)}"},
        BadTemplate{"{a:int(5..x)}", 7, "is no range", "low..high"},
        BadTemplate{"{a:word(max=3)}", 8, "no parameter `max`", ""},
        BadTemplate{"{a:time(zone=Europe/Oslu)}", 8, "unknown time zone", "Europe/Oslo"},
        BadTemplate{"{a:time(\"%Q\")}", 8, "unknown conversion %Q", ""},
        BadTemplate{"{:csv(a, b:itn)}", 9, "`itn` is no typed pattern", "int"},
        BadTemplate{"{:xml(a)}", 6, "no field's name", "field=path"},
        BadTemplate{"{a:word(3", 0, "not closed", ""}, BadTemplate{"{'abc", 0, "not closed", ""},
        BadTemplate{"{u.:email}", 0, "brings no fields", ""}, BadTemplate{"", 0, "empty", ""}));

TEST(Template, KeepingNothingIsAWarning) {
  const auto warned = [](const char* text) { return !compile(text)->warnings().empty(); };
  EXPECT_TRUE(warned("{:word} at {:/\\d+/}"));
  EXPECT_FALSE(warned("the harbour is closed"));
  EXPECT_FALSE(warned("{:word} at {n:int}"));
  EXPECT_FALSE(warned("{:/(?<n>\\d+)/}"));
  EXPECT_FALSE(warned("{:json}"));
}

TEST(Template, SeveralMistakesAreAllReported) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  Template::compile("{a:itn} {b:wrod} {c", library, {}, problems);
  EXPECT_EQ(problems.size(), 3u);
}

INSTANTIATE_TEST_SUITE_P(AnyCase, TemplateMatches,
                         testing::Values(TemplateCase{"{'Error'}: {x}", "eRROR: late", "x=late"},
                                         TemplateCase{"{x}{'END'}", "all end", "x=all "},
                                         TemplateCase{"{x:alphabetic}{'2a'}", "ab2A", "x=ab"},
                                         TemplateCase{"{'it''s'} {x:int}", "IT'S 4", "x=4"},
                                         TemplateCase{"{'error'}", "erro", "column 1"}));

INSTANTIATE_TEST_SUITE_P(
    Parameters, TemplateMatches,
    testing::Values(
        TemplateCase{"{s:int(100..599)}", "404", "s=404"},
        TemplateCase{"{s:int(100..599)}", "600", "column 1"},
        TemplateCase{"{s:decimal(..1.5)}", "1.5", "s=1.5"},
        TemplateCase{"{w:word(..4)}{rest}", "Kittiwake", "w=Kitt rest=iwake"},
        TemplateCase{"{w:word(3..)} {x:int}", "ab 1", "column 3"},
        TemplateCase{"{at:time(\"%d.%m.%y %H:%M\")} x", "23.11.26 10:00 x", "at=2026-11-23T10:00:00Z"},
        TemplateCase{"{at:time(order=mdy)}", "03/04/2026 10:00:00", "at=2026-03-04T10:00:00Z"},
        TemplateCase{"{at:rfc3339(zone=Europe/Stockholm)}", "2026-11-23 10:00:00", "at=2026-11-23T09:00:00Z"},
        TemplateCase{"{n:grouped}", "1,234,567", "n=1234567"},
        TemplateCase{"{n:grouped(separator=\".\")} x", "12.345 x", "n=12345"},
        TemplateCase{"{n:grouped},{rest}", "1,23", "n=1 rest=23"}));

INSTANTIATE_TEST_SUITE_P(Units, TemplateMatches,
                         testing::Values(TemplateCase{"{d:duration}", "2h45m", "d=9900000000000"},
                                         TemplateCase{"{d:duration} x", "1.5 ms x", "d=1500000"},
                                         TemplateCase{"{d:duration}", "01:02:03.5", "d=3723500000000"},
                                         TemplateCase{"{d:duration}", "PT1M30S", "d=90000000000"},
                                         TemplateCase{"{d:duration}", "17 berths", "column 1"},
                                         TemplateCase{"{s:size}", "1.5 GiB", "s=1610612736"},
                                         TemplateCase{"{s:size}", "10KB", "s=10000"},
                                         TemplateCase{"{p:percent} of", "12.5% of", "p=12.5"},
                                         TemplateCase{"{l:level}", "WRN", "l=WRN"}));

INSTANTIATE_TEST_SUITE_P(
    Structured, TemplateMatches,
    testing::Values(
        TemplateCase{"{:csv(ship, berth:int, , place)}", "Tern,4,x,\"Northquay, \"\"west\"\"\"",
                     "ship=Tern berth=4 place=Northquay, \"west\""},
        TemplateCase{"{row.:csv(a, b, separator=\";\")} end", "1;2 end", "row.a=1 row.b=2"},
        TemplateCase{"{row:csv(a:int, b)}", "1,x", "row={\"a\":1,\"b\":\"x\"}"},
        TemplateCase{"{:csv(a:int, b)}", "x,y", "column 1"}, TemplateCase{"{:csv(a:int, b)}", ",y", "b=y"},
        TemplateCase{"{:csv(a, b)}", "x", "column 2"},
        TemplateCase{"load {:pairs}", "load crane=7 kg=12.5 state=\"at rest\" on=true",
                     "crane=7 kg=12.5 state=at rest on=true"},
        TemplateCase{"{p.:pairs(separator=\"&\")} end", "a=1&b=x end", "p.a=1 p.b=x"},
        TemplateCase{"{p:pairs(values=text)}", "a=007 b=1", "p={\"a\":\"007\",\"b\":\"1\"}"},
        TemplateCase{"{m} {:json}", "sent {\"ship\":\"Tern\",\"at\":{\"berth\":4},\"tags\":[1,2]}",
                     "m=sent ship=Tern at.berth=4 tags=[1,2]"},
        TemplateCase{"{j.:json(depth=1)} {x:int}", "{\"a\":{\"b\":1}} 7", "x=7 j.a={\"b\":1}"},
        TemplateCase{"{j:json}!", "[1,{\"a\":2}]!", "j=[1,{\"a\":2}]"},
        TemplateCase{"{j:json}", "{\"a\":}", "column 1"},
        TemplateCase{"{:json(in=string)} x", "\"{\\\"a\\\":1}\" x", "a=1"},
        TemplateCase{"{l:list}", "[tern, 4, \"storm petrel\"]", "l=[\"tern\",4,\"storm petrel\"]"},
        TemplateCase{"{l:list(int, separator=\"|\", open=\"<\", close=\">\")}", "<1|22>", "l=[1,22]"},
        TemplateCase{"{l:list(int)}", "[1,x]", "column 1"}, TemplateCase{"{l:list}", "[]", "l=[]"},
        TemplateCase{"{:xml(ship=/call/ship, lat=/call/position/@lat:decimal, any=note)} end",
                     "<call><position lon=\"1\" lat=\"59.5\"/><x><note>a &amp; "
                     "b&#33;</note></x><ship>Tern</ship></call> end",
                     "ship=Tern lat=59.5 any=a & b!"},
        TemplateCase{"{:xml(a=/b)}", "<b>x</c>", "column 1"},
        TemplateCase{"{u.:uri}", "https://staff@[2001:db8::7]:8443/a/b?x=1#y",
                     "u.scheme=https u.user=staff u.address=2001:db8::7 u.port=8443 u.path=/a/b "
                     "u.query=x=1 u.fragment=y"},
        TemplateCase{"{u:uri} x", "https://skerry.example/a x", "u=https://skerry.example/a"},
        TemplateCase{"{peer.:endpoint} {p:endpoint}", "gate-7:80 192.0.2.7:443",
                     "peer.host=gate-7 peer.port=80 p=192.0.2.7:443"}));

INSTANTIATE_TEST_SUITE_P(
    Prefixes, TemplateMatches,
    testing::Values(
        TemplateCase{"{in.:http_request} {out.:http_request}", "GET /a HTTP/1.1 PUT /b HTTP/2",
                     "in.http.request.method=GET in.url.original=/a in.network.protocol.version=1.1 "
                     "out.http.request.method=PUT out.url.original=/b out.network.protocol.version=2"},
        TemplateCase{"{:exception}", "example.skerry.BerthTaken: berth 4",
                     "exception.type=example.skerry.BerthTaken exception.message=berth 4"},
        TemplateCase{"{x.:int}", "5", ""}));

TEST(Template, AGroupThatFailsLeavesNothingBehind) {
  EXPECT_EQ(result("{[}{:pairs}!{]}{x}", "a=1 b=2"), "x=a=1 b=2");
  EXPECT_EQ(result("{(}{:csv(a, b)};{|}{c}{)}", "1,2"), "c=1,2");
}

TEST(Template, TooExpensiveIsSaid) {
  std::string text;
  for (int i = 0; i < 40; ++i) text += "{[}{:text}<" + std::to_string(i) + ">{]}";
  auto t = compile(text + "!");
  const std::string line(3000, 'a');
  int expensive = -1;
  std::vector<Value> values(t->value_count());
  EXPECT_FALSE(t->match(line, {}, values.data(), &expensive));
  EXPECT_EQ(expensive, 0);
  EXPECT_NE(t->explain(line, {}).sentence().find("too expensive"), std::string::npos);
  auto regex = compile("{a:/(\\w+\\s?)*!/}");
  expensive = -1;
  EXPECT_FALSE(regex->match(std::string(2000, 'x') + "?!", {}, values.data(), &expensive));
  EXPECT_EQ(expensive, 0);
}

TEST(Template, NestedRepetitionsAreLinted) {
  auto place = [](const std::string& regex) {
    const auto lint = Regex::compile(regex, Regex::Where::anchored)->lint();
    return lint.message.empty() ? "fine" : regex.substr(lint.offset, lint.length);
  };
  EXPECT_EQ(place("(a+)+b"), "(a+)+");
  EXPECT_EQ(place("x(\\w+\\s?)*!"), "(\\w+\\s?)*");
  EXPECT_EQ(place("((?:a|b*)+)"), "(?:a|b*)+");
  EXPECT_EQ(place("([a-z]{2,},?){1,}"), "([a-z]{2,},?){1,}");
  for (const char* fine :
       {"(\\[[^\\]]*\\])+", "(\\d+\\.)+\\d+", "(a++)+", "(?>a+)+", "(a+)?", "[(a+)+]", "\\(a+\\)+", "a+b+"})
    EXPECT_EQ(place(fine), "fine") << fine;
  const auto t = compile("{x} {y:/(a+)+/}");
  ASSERT_EQ(t->warnings().size(), 1u);
  EXPECT_EQ(t->text().substr(t->warnings()[0].offset, t->warnings()[0].length), "(a+)+");
}

struct AdviceCase {
  const char *text, *line, *advice;
};
class Advices : public testing::TestWithParam<AdviceCase> {};
TEST_P(Advices, AreGiven) {
  const PatternLibrary library;
  EXPECT_EQ(compile(GetParam().text)->advise(GetParam().line, {}, library).sentence(), GetParam().advice);
}
constexpr const char* kBlanks =
    "several blanks or a tab stand here: { } takes a run of them, and then the rest of the line matches";
TEST(Template, BlanksThatLookLikeOthersAreNamed) {
  EXPECT_EQ(compile("gate {a:int}")
                ->explain("gate\xC2\xA0\xE2\x80\x8B"
                          "7",
                          {})
                .sentence(),
            "column 5: expected \" \", found \"\\u00a0\\u200b7\"");
}
INSTANTIATE_TEST_SUITE_P(
    All, Advices,
    testing::Values(AdviceCase{"{a:int} {b:int}", "1 x",
                               "{:word} or {:unspaced} would match here, and then the rest of the line"},
                    AdviceCase{"{a:word} [{b:int}]", "x  [1]", kBlanks},
                    AdviceCase{"gate {a:int}", "gate  7", kBlanks},
                    AdviceCase{"gate {a:int}", "gate\t7", kBlanks},
                    AdviceCase{"{a:int} open", "7\t open", kBlanks},
                    AdviceCase{"gate {a:int}", "gate  x", "with \" x\" skipped the rest of the line matches"},
                    AdviceCase{"{a:word} of {b:int}", "x (new) of 4",
                               "with \" (new)\" skipped the rest of the line matches"},
                    AdviceCase{"{a:int} {b:int}", "7 8", ""}));

}  // namespace
}  // namespace dingle
