// What destinations write: renderings, frames, compression, rows of PostgreSQL; and how secrets are read.
#include <gtest/gtest.h>

#include <cstdlib>
#include <fstream>

#include "agent/destinations/compression.h"
#include "agent/destinations/field_choice.h"
#include "agent/destinations/frame.h"
#include "agent/destinations/postgres_rows.h"
#include "agent/destinations/rendering.h"
#include "agent/secret.h"
#include "agent/yaml.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

Options events_options(const std::string& yaml) {
  Findings findings(yaml);
  const Node node = read_yaml(yaml, findings);
  Options o = Options::read({rendering_option()}, node, "d", findings);
  EXPECT_EQ(findings.errors(), 0u) << yaml;
  return o;
}
Rendering rendering(const std::string& events) {
  return Rendering(events_options("events: " + events).section("events"));
}

// An event of the turnstiles.
class AnEvent : public testing::Test {
 protected:
  AnEvent() {
    fields = {{field_id("status"), Value::integer(200)},
              {field_id("user"), Value::text("an \"na\"")},
              {field_id("at"), Value::timestamp(1'500'000'000)},
              {field_id("share"), Value::decimal(0.5)}};
    resource = {{field_id("service.name"), Value::text("ticket-gate")},
                {field_id("user"), Value::text("hidden")}};
    e.timestamp = instant_from_civil({2026, 11, 23, 10, 0, 0, 125'000'000}).value();
    e.observed = e.timestamp + kSecond;
    e.body = "the line";
    e.fields = fields;
    e.resource = resource;
    e.pipeline = "gate";
    e.configuration = "c0ffee";
    e.stream = 7;
  }
  std::string json(const std::string& events) {
    std::string out;
    rendering(events).append_json(e, out);
    return out;
  }
  std::vector<Field> fields, resource;
  SpooledEvent e;
};

TEST_F(AnEvent, AsJsonWithAllFields) {
  const std::string all = json("{}");
  EXPECT_TRUE(all.starts_with("{\"timestamp\":\"2026-11-23T10:00:00.125Z\",\"observed_timestamp\":")) << all;
  EXPECT_NE(all.find("\"body\":\"the line\",\"status\":200,\"user\":\"an \\\"na\\\"\""), std::string::npos)
      << all;
  EXPECT_EQ(all.find("hidden"), std::string::npos) << "the event's own field wins";
  EXPECT_TRUE(all.ends_with("\"dingle.id\":\"" + std::string(event_id(e).view()) + "\"}")) << all;
}

TEST_F(AnEvent, FieldsAreChosenOmittedAndRenamed) {
  EXPECT_EQ(json("{ fields: [status, absent, service.name], rename: { service.name: service } }"),
            "{\"status\":200,\"service\":\"ticket-gate\"}");
  EXPECT_EQ(json("{ fields: [absent] }"), "{}");
  const std::string most =
      json("{ omit: [body, at, share, dingle.id, dingle.pipeline, dingle.configuration, service.name] }");
  EXPECT_EQ(most.find("\"body\""), std::string::npos);
  EXPECT_TRUE(most.ends_with("\"status\":200,\"user\":\"an \\\"na\\\"\"}")) << most;
}

TEST_F(AnEvent, WhatIsRenamedTakesItsNameFromAnother) {
  auto count = [&](const std::string& text, const std::string& what) {
    std::size_t n = 0;
    for (std::size_t at = 0; (at = text.find(what, at)) != std::string::npos; ++at) ++n;
    return n;
  };
  const std::string renamed = json("{ rename: { status: user } }");
  EXPECT_EQ(count(renamed, "\"user\":"), 1u) << renamed;
  EXPECT_EQ(count(renamed, "\"user\":200"), 1u) << renamed;
  const std::string swapped = json("{ rename: { status: user, user: status } }");
  EXPECT_EQ(count(swapped, "\"user\":200"), 1u) << swapped;
  EXPECT_EQ(count(swapped, "\"status\":\"an "), 1u) << swapped;
  const std::string absent = json("{ rename: { absent: user } }");
  EXPECT_EQ(count(absent, "\"user\":\"an "), 1u) << absent;
}

struct TimeCase {
  const char *options, *expected;
};
class Times : public AnEvent, public testing::WithParamInterface<TimeCase> {};
TEST_P(Times, AreWrittenAsAskedFor) {
  EXPECT_EQ(json("{ fields: [timestamp], " + std::string(GetParam().options) + " }"),
            "{\"timestamp\":" + std::string(GetParam().expected) + "}");
}
INSTANTIATE_TEST_SUITE_P(
    Forms, Times,
    testing::Values(TimeCase{"time: rfc3339", "\"2026-11-23T10:00:00.125Z\""},
                    TimeCase{"time: sql", "\"2026-11-23 10:00:00.125\""},
                    TimeCase{"time: seconds", "1795428000"}, TimeCase{"time: milliseconds", "1795428000125"},
                    TimeCase{"time: microseconds", "1795428000125000"},
                    TimeCase{"time: nanoseconds", "1795428000125000000"},
                    TimeCase{"zone: Europe/Oslo", "\"2026-11-23T11:00:00.125+01:00\""},
                    TimeCase{"time: sql, zone: America/New_York", "\"2026-11-23 05:00:00.125\""}));

// What is left of the event's fields, its resource and its body: `a b|c d|body`.
struct ChoiceCase {
  const char *options, *expected;
};
class Choices : public AnEvent, public testing::WithParamInterface<ChoiceCase> {};
TEST_P(Choices, KeepWhatIsAskedFor) {
  Findings findings("");
  const std::string yaml = "events: " + std::string(GetParam().options);
  const Node node = read_yaml(yaml, findings);
  FieldChoice choice(Options::read({value_choice_option()}, node, "d", findings).section("events"));
  const std::vector<DeliveryEvent> events{{{1, 1}, e}, {{1, 1}, e}};
  choice.of(events);
  const auto chosen = choice.of(events);  // its memory is used again
  ASSERT_EQ(chosen.size(), 2u);
  const SpooledEvent& last = chosen[1].event;
  std::string left;
  for (const auto& [list, end] : {std::pair{last.fields, "|"}, std::pair{last.resource, "|"}}) {
    for (const Field& f : list) left += std::string(field_name(f.name)) + "=" + f.value.to_string() + " ";
    left += end;
  }
  EXPECT_EQ(left + std::string(last.body), GetParam().expected);
  EXPECT_EQ(event_id(last).view(), event_id(e).view());
}
INSTANTIATE_TEST_SUITE_P(
    OfFields, Choices,
    testing::Values(ChoiceCase{"{ fields: [status, user, body] }",
                               "status=200 user=an \"na\" |user=hidden |the line"},
                    ChoiceCase{"{ fields: [service.name] }", "|service.name=ticket-gate |"},
                    ChoiceCase{"{ omit: [user, at, share, body] }", "status=200 |service.name=ticket-gate |"},
                    ChoiceCase{"{ omit: [at, share, user], rename: { status: code, service.name: service } }",
                               "code=200 |service=ticket-gate |the line"},
                    ChoiceCase{"{ fields: [status, share], rename: { status: share } }", "share=200 ||"}));

TEST_F(AnEvent, AsCsv) {
  std::string out;
  const Rendering r = rendering("{ fields: [user, status, absent], rename: { user: who } }");
  r.append_csv_head(out);
  r.append_csv(e, out);
  EXPECT_EQ(out, "who,status,absent\r\n\"an \"\"na\"\"\",200,\r\n");
}

TEST_F(AnEvent, InFrames) {
  const Rendering r = rendering("{ time: nanoseconds }");
  auto text = [&](const char* frame) {
    std::string out;
    FrameText::parse(frame)->append(r, e, 3, out);
    return out;
  };
  EXPECT_EQ(text("${count} $$ $ ${status} ${absent} ${user}"), "3 $ $ 200 null \"an \\\"na\\\"\"");
  EXPECT_EQ(text("\"${timestamp:text}\",\"${user:text}\""), "\"1795428000125000000\",\"an \\\"na\\\"\"");
  EXPECT_EQ(FrameText::parse("/lines/${user}?x=${status}")->url(r, e), "/lines/an%20%22na%22?x=200");
  EXPECT_FALSE(FrameText::parse("${open"));
  EXPECT_FALSE(FrameText::parse("${not a field}"));
}

TEST_F(AnEvent, TheIdIsStableAndItsOwn) {
  const std::string id(event_id(e).view());
  EXPECT_EQ(id.size(), 32u);
  EXPECT_EQ(event_id(e).view(), id);
  for (auto change : {+[](SpooledEvent& o) { ++o.stream; }, +[](SpooledEvent& o) { ++o.position; },
                      +[](SpooledEvent& o) { ++o.branch; }}) {
    SpooledEvent other = e;
    change(other);
    EXPECT_NE(event_id(other).view(), id);
  }
}

TEST_F(AnEvent, AsARowWhoseMisfitsStayInFields) {
  using From = PgColumn::From;
  PgRows rows({{"body", From::body, kNoField, PgType::text},
               {"status", From::field, field_id("status"), PgType::int2},
               {"user", From::field, field_id("user"), PgType::int8},
               {"fields", From::fields, kNoField, PgType::jsonb}});
  std::string out;
  rows.append(e, out);
  EXPECT_EQ(out.substr(0, 6), std::string("\0\4\0\0\0\10", 6));
  EXPECT_NE(out.find(std::string("\0\0\0\2\0\310\377\377\377\377", 10)), std::string::npos)
      << "200 as int2, then null";
  EXPECT_EQ(out.find("\"status\""), std::string::npos);
  EXPECT_NE(out.find("\"user\":\"an"), std::string::npos) << "no number: it stays";
  EXPECT_EQ(rows.replaced(), 0u);
}

TEST_F(AnEvent, WhatPostgresCannotHoldIsReplaced) {
  fields = {{field_id("user"), Value::text(std::string_view("a\0b", 3))}};
  e.fields = fields;
  e.body = std::string_view("x\0y\xff", 4);
  PgRows rows({{"body", PgColumn::From::body, kNoField, PgType::text},
               {"fields", PgColumn::From::fields, kNoField, PgType::jsonb}});
  std::string out;
  rows.append(e, out);
  EXPECT_NE(out.find("x\xEF\xBF\xBDy\xEF\xBF\xBD"), std::string::npos);
  EXPECT_NE(out.find("a\\ufffdb"), std::string::npos);
  EXPECT_EQ(rows.replaced(), 2u);
}

class Compressed : public testing::TestWithParam<Compression> {};
TEST_P(Compressed, WholePartsAreFoundBeforeATornOne) {
  const std::string first = compress(GetParam(), "one line\n"),
                    second = compress(GetParam(), "and another\n");
  EXPECT_EQ(whole_length(GetParam(), ""), 0u);
  EXPECT_EQ(whole_length(GetParam(), first), first.size());
  for (std::size_t cut = 0; cut < second.size(); ++cut)
    ASSERT_EQ(whole_length(GetParam(), first + second.substr(0, cut)), first.size()) << cut;
  EXPECT_EQ(whole_length(GetParam(), first + second), first.size() + second.size());
}
INSTANTIATE_TEST_SUITE_P(Forms, Compressed,
                         testing::Values(Compression::none, Compression::gzip, Compression::zstd));

TEST(Secrets, ComeFromTheEnvironmentOrAFile) {
  const std::string path = testing::TempDir() + "/secret-" + std::to_string(::getpid());
  std::ofstream(path) << "hush\n";
  ::setenv("DINGLE_TEST_SECRET", "quiet", 1);
  EXPECT_EQ(*read_secret_at("file:" + path), "hush");
  EXPECT_EQ(*read_secret_at("env:DINGLE_TEST_SECRET"), "quiet");
  EXPECT_FALSE(read_secret_at("env:DINGLE_NO_SUCH"));
  EXPECT_FALSE(read_secret_at("file:/no/such"));
  ::unlink(path.c_str());
}

TEST(Secrets, InTheConfigurationItselfAreRefusedAndNotShown) {
  const std::string yaml = "password: hush-hush\n";
  Findings findings(yaml);
  const Node node = read_yaml(yaml, findings);
  Options::read({{.name = "password", .type = OptionType::secret}}, node, "d", findings);
  ASSERT_EQ(findings.errors(), 1u);
  EXPECT_EQ(render(findings.all()[0], "f", yaml).find("hush"), std::string::npos);
}

}  // namespace
}  // namespace dingle
