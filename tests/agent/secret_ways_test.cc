// A value that is hidden stands nowhere in its event, however the formats that logs are made of write it.
#include "agent/yaml.h"
#include "core/json_fields.h"
#include "core/steps/hiding.h"
#include "core/steps/readings.h"
#include "tests/core/step_fixture.h"

namespace dingle {
namespace {

// `written`: how the line holds the secret, which is `kestrelmann`, `kestrel@skerry.example` or a card's number.
struct Way {
  const char *name, *steps, *line, *written;
};

constexpr const char* kCard = "9000400050006702";

std::unique_ptr<Step> step_of(const Node& item, Findings& findings) {
  static const PatternLibrary library;
  const Node::Entry& entry = item.entries.at(0);
  const StepKind* kind = step_kind(entry.key);
  const Options o = Options::read(kind->spec.options, entry.value, entry.key, findings);
  auto made = o.sound() ? kind->make({o, library, findings}) : nullptr;
  if (made) made->kind = entry.key;
  return made;
}

Trial run_steps(const std::string& steps, const std::string& line) {
  Findings findings("");
  const Node all = read_yaml(steps, findings);
  Trial r = run({line});
  for (const Node& item : all.items)
    if (auto made = step_of(item, findings)) r.pipeline->add(std::move(made));
  for (const Finding& f : findings.all()) ADD_FAILURE() << steps << ": " << f.message;
  for (std::size_t i = 0; i < r.pipeline->steps.size(); ++i) {
    StepTally tally;
    r.pipeline->step(i, r.batch, tally, r.present);
  }
  return r;
}

class Ways : public testing::TestWithParam<Way> {};
TEST_P(Ways, LeaveNothing) {
  const Way& way = GetParam();
  ASSERT_NE(std::string(way.line).find(way.written), std::string::npos) << way.name;
  const Trial r = run_steps(way.steps, way.line);
  std::string all = std::string(r.batch.events[0].body);
  for (const Field& f : r.batch.events[0].all()) {
    std::string json;
    f.value.append_json(json);
    EXPECT_TRUE(f.value.kind() != Kind::list ||
                json_end(json.data(), json.data() + json.size()) == json.data() + json.size())
        << way.name << ": " << json;
    all += " " + std::string(field_name(f.name)) + "=" + f.value.to_string() + " " + json;
  }
  for (const char* hidden : {way.written, "kestrelmann", "kestrel@skerry.example", kCard})
    EXPECT_EQ(all.find(hidden), std::string::npos) << way.name << ": " << all;
}

constexpr const char* kJsonUser = "[json: {}, mask: { fields: [user] }]";
constexpr const char* kEmail = "[mask: { find: [email] }]";
constexpr const char* kToken = "[mask: { find: [token] }]";
constexpr const char* kCards = "[mask: { find: [card] }]";
constexpr const char* kJsonCards = "[json: {}, mask: { find: [card] }]";
constexpr const char* kTwoXml = "[xml: { values: { user: u } }, mask: { fields: [user] }]";
constexpr const char* kPairsUser = "[pairs: {}, mask: { fields: [user] }]";

INSTANTIATE_TEST_SUITE_P(
    All, Ways,
    testing::Values(
        Way{"plain", kJsonUser, R"({"user":"kestrelmann","m":"kestrelmann came"})", "kestrelmann"},
        Way{"one escape", kJsonUser, R"({"user":"kestrelmann","m":"k\u0065strelmann"})",
            R"(k\u0065strelmann)"},
        Way{"an escape inside a longer string", kJsonUser,
            R"({"user":"kestrelmann","m":"and k\u0065strelmann came"})", R"(k\u0065strelmann)"},
        Way{"all escaped", kJsonUser,
            R"({"user":"kestrelmann","m":"\u006b\u0065\u0073\u0074\u0072\u0065\u006c\u006d\u0061\u006e\u006e"})",
            R"(\u006b\u0065\u0073\u0074\u0072\u0065\u006c\u006d\u0061\u006e\u006e)"},
        Way{"the field escaped, the copy plain", kJsonUser,
            R"({"user":"k\u0065strelmann","m":"kestrelmann came"})", "kestrelmann"},
        Way{"JSON within JSON", kJsonUser, R"({"user":"kestrelmann","m":"{\"who\":\"k\\u0065strelmann\"}"})",
            R"(k\\u0065strelmann)"},
        Way{"JSON within JSON within JSON", kJsonUser,
            R"({"user":"kestrelmann","m":"{\"a\":\"{\\\"who\\\":\\\"k\\\\u0065strelmann\\\"}\"}"})",
            R"(k\\\\u0065strelmann)"},
        Way{"behind an odd quote", kJsonUser, R"({"user":"kestrelmann","m":"5\" tall k\u0065strelmann"})",
            R"(k\u0065strelmann)"},
        Way{"a quote in it", kJsonUser, R"({"user":"kestrel\"mann","m":"kestrel\"mann"})",
            R"(kestrel\"mann)"},
        Way{"a slash escaped", kJsonUser, R"({"user":"kestrel/mann","m":"kestrel\/mann"})",
            R"(kestrel\/mann)"},
        Way{"the same member twice", kJsonUser, R"({"user":"kestrelmann","user":"heron"})", "kestrelmann"},
        Way{"the same member thrice, short", kJsonUser, R"({"user":"kes","user":"her","user":"auk"})", "kes"},
        Way{"the same member twice, its name escaped", kJsonUser,
            R"({"us\u0065r":"kestrelmann","user":"heron"})", "kestrelmann"},
        Way{"nested members twice", "[json: {}, mask: { fields: [a.user] }]",
            R"({"a":{"user":"kestrelmann"},"a":{"user":"heron"}})", "kestrelmann"},
        Way{"as a member's name", kJsonUser, R"({"user":"kestrelmann","seen":[{"kestrelmann":1}]})",
            "kestrelmann"},
        Way{"as an escaped name", kJsonUser, R"({"user":"kestrelmann","seen":[{"k\u0065strelmann":1}]})",
            R"(k\u0065strelmann)"},
        Way{"in a list", kJsonUser, R"({"user":"kestrelmann","l":["kestrelmann",5]})", "kestrelmann"},
        Way{"escaped in a list", kJsonUser, R"({"user":"kestrelmann","l":["a k\u0065strelmann",5]})",
            R"(k\u0065strelmann)"},
        Way{"the items of a hidden list", "[json: {}, mask: { fields: [l] }]",
            R"({"l":["kestrelmann","x"],"m":"kestrelmann came"})", "kestrelmann"},
        Way{"the values of a hidden map", "[json: { depth: 1 }, mask: { fields: [l] }]",
            R"({"l":{"who":"kestrelmann"},"m":"kestrelmann came"})", "kestrelmann"},
        Way{"all picks of one name", "[pick: { all: ['user={user:word}'] }, mask: { fields: [user] }]",
            "user=kestrelmann and user=heron; kestrelmann left", "kestrelmann"},
        Way{"a number in a list", kJsonCards, R"({"l":[9000400050006702,5]})", kCard},
        Way{"a number in a map in a list", kJsonCards, R"({"l":[{"card":9000400050006702}]})", kCard},
        Way{"a number as a field and text", "[json: {}, mask: { fields: [card] }]",
            R"({"card":9000400050006702,"m":"of 9000400050006702"})", kCard},
        Way{"an address with an escaped sign", kEmail, R"({"m":"kestrel\u0040skerry.example"})",
            R"(kestrel\u0040skerry.example)"},
        Way{"an address with an escaped letter", kEmail, R"({"m":"k\u0065strel@skerry.example"})",
            R"(k\u0065strel@skerry.example)"},
        Way{"an address in XML", kEmail, "<m>kestrel&#64;skerry.example</m>", "kestrel&#64;skerry.example"},
        Way{"an address in XML, in hex", kEmail, "<m>kestrel&#x40;skerry.example</m>",
            "kestrel&#x40;skerry.example"},
        Way{"an address in XML within JSON", kEmail, R"({"m":"kestrel\u0026#64;skerry.example"})",
            R"(kestrel\u0026#64;skerry.example)"},
        Way{"a token behind an escaped sign", kToken, R"({"m":"password\u003dkestrelmann"})", "kestrelmann"},
        Way{"a token behind an escaped blank", kToken, R"({"m":"Bearer\u0020kestrelmann"})", "kestrelmann"},
        Way{"a token within JSON within JSON", kToken, R"({"m":"{\"password\":\"kestrelmann\"}"})",
            "kestrelmann"},
        Way{"a token within two levels", kToken,
            R"({"m":"{\"n\":\"{\\\"password\\\":\\\"kestrelmann\\\"}\"}"})", "kestrelmann"},
        Way{"a card with escaped blanks", kCards, R"({"m":"9000\u00204000\u00205000\u00206702"})",
            R"(9000\u00204000\u00205000\u00206702)"},
        Way{"a card with an escaped digit", kCards, R"({"m":"\u0039000400050006702"})",
            R"(\u0039000400050006702)"},
        Way{"a doubled quote in CSV", "[csv: { columns: [user, note] }, mask: { fields: [user] }]",
            R"("kes""trel","of kes""trel")", R"(kes""trel)"},
        Way{"a backslash in pairs", kPairsUser, R"(user="kes\"trel" note="of kes\"trel")", R"(kes\"trel)"},
        Way{"an entity in XML", kTwoXml, "<c><u>kes&amp;trel</u><n>of kes&amp;trel</n></c>", "kes&amp;trel"},
        Way{"an apostrophe in XML", kTwoXml, "<c><u>kes&apos;trel</u><n>of kes&apos;trel</n></c>",
            "kes&apos;trel"},
        Way{"a character by its number in XML", kTwoXml, "<c><u>kestr&#252;l</u><n>of kestr&#252;l</n></c>",
            "kestr&#252;l"},
        Way{"a character by its number, and plain", kTwoXml,
            "<c><u>kestr&#252;l</u><n>of kestr\xC3\xBCl</n></c>", "kestr\xC3\xBCl"},
        Way{"between typographic quotes", kJsonUser,
            "{\"user\":\"kestrelmann\",\"m\":\"\xE2\x80\x9Ckestrelmann\xE2\x80\x9D\"}", "kestrelmann"},
        Way{"behind a no-break space", kJsonUser,
            "{\"user\":\"kestrelmann\",\"m\":\"of\xC2\xA0kestrelmann\xC2\xA0now\"}", "kestrelmann"},
        Way{"behind a full-width colon", kJsonUser,
            "{\"user\":\"kestrelmann\",\"m\":\"user\xEF\xBC\x9Akestrelmann\"}", "kestrelmann"},
        Way{"behind a template, where a step fails",
            "[parse: { templates: ['{at} user {rest}'] }, time: { field: at }, json: { field: rest }, mask: "
            "{ fields: [user] }]",
            "yesterday user kestrelmann", "kestrelmann"},
        Way{"deeper than is looked", kJsonUser,
            R"({"user":"kestrelmann","m":"\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\\u006bestrelmann"})",
            "u006bestrelmann"}),
    [](const auto& of) { return "Way" + std::to_string(of.index); });

TEST(Ways, OfReadingsAPlaceIsWhereItStands) {
  Readings readings;
  const std::string text = R"({"name":"K\u0065strel"})";
  readings.read(text);
  ASSERT_EQ(readings.size(), 2u);
  EXPECT_EQ(readings.text(1), R"({"name":"Kestrel"})");
  EXPECT_EQ(readings.place(1, 9, 16), (std::pair<std::size_t, std::size_t>{9, 21}));
  for (const char* plain : {"", "plain", "a \"quoted\" one", "C:\\dir", "a & b &x; &#; &#xZ; \\u12"}) {
    readings.read(plain);
    EXPECT_EQ(readings.size(), 1u) << plain;
    EXPECT_TRUE(readings.complete());
  }
  for (const auto& [written, said] : {std::pair{R"(\ud83d\ude00)", "\xF0\x9F\x98\x80"},
                                      {"&#x1F600;", "\xF0\x9F\x98\x80"},
                                      {"a\"\"b", "a\"b"},
                                      {R"(\\)", "\\"}}) {
    readings.read(written);
    ASSERT_GE(readings.size(), 2u) << written;
    EXPECT_EQ(readings.text(1), said);
  }
  readings.read(std::string(64, '\\'));
  EXPECT_FALSE(readings.complete());
}

// Also where nothing was found as far as it was looked.
TEST(Ways, WhatFindDidNotLookThroughIsConcealed) {
  const Trial r =
      run_steps("[mask: { find: [email] }]", "kestrel" + std::string(63, '\\') + "u0040skerry.example");
  EXPECT_EQ(r.batch.events[0].body.find("kestrel"), std::string_view::npos) << r.batch.events[0].body;
}

TEST(Ways, AConcealedEventIsConcealedOnce) {
  const Trial r = run_steps(
      "[parse: { templates: ['{user:word} {at:ip}'] }, mask: { fields: [user] }, mask: { fields: [at] }]",
      "kestrelmann was here 17 times");
  EXPECT_EQ(r.batch.events[0].body, "{word} {word} {word} {int} {word}");
}

}  // namespace
}  // namespace dingle
