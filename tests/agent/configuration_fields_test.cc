// check follows fields: who names one that nothing makes is told.
#include <gtest/gtest.h>

#include <fstream>
#include <sstream>

#include "agent/configuration.h"

namespace dingle {
namespace {

constexpr const char* kSound = R"(version: 1
sources:
  turnstile: { files: { paths: [/nowhere/gate.log] }, resource: { service.name: gate } }
  hoist: { files: { paths: [/nowhere/crane.log] } }
  bridge: { syslog: { udp: '127.0.0.1:0' } }
pipelines:
  gate:
    from: [turnstile]
    where: "log.file.path like '%.log' and service.name = 'gate'"
    unless: "body like '#%'"
    steps:
      - parse: { templates: ['{client.address:ip} {at:rfc3339} {status:int} {user:word} {query:pairs}', '{ship:word} sails'] }
      - time: { field: at }
      - drop: { where: "status = 204 and user = 'probe'" }
      - set: { fields: { severity: error, place: 'quay of {ship}' }, where: "status >= 500" }
      - rename: { fields: { user: user.name } }
      - omit: { fields: [ship], where: "status < 500" }
    to: [store, { alerts: "status >= 500 and severity_number > 16 and user.name is not null" }]
  crane:
    from: [hoist]
    steps:
      - json
      - rename: { fields: { level: severity } }
      - json: { field: payload, prefix: load., keep: false }
    to: [store]
  loads:
    from: [hoist]
    steps:
      - json: { prefix: crane. }
      - fold: { by: [crane.id, host.name], values: { tons: sum(crane.tons), last: max(timestamp) } }
      - unique: { by: [tons, dingle.part] }
    to: [weights]
  radio:
    from: [bridge]
    where: "network.transport = 'udp'"
    to: [store]
  behind: { from: [gate], where: "dingle.template = 1", to: [weights] }
  rest: { from: [leftovers], where: "network.peer.address is not null", to: [alerts] }
destinations:
  store: { index: { name: '{dingle.pipeline}-{day}' } }
  alerts: { index: { name: 'alerts-{severity}' } }
  weights: { index: { name: 'weights-{tons}' } }
)";

std::vector<Finding> all_findings(const std::string& text) {
  Findings findings(text);
  read_configuration(text, findings);
  return findings.all();
}

TEST(FieldsOfConfigurations, ASoundOneHasNoWarning) {
  std::string sound = kSound;
  for (const Finding& f : all_findings(sound))
    if (f.message.find("wait when the queue") == std::string::npos)
      ADD_FAILURE() << f.message << " " << f.hint;
}

struct FieldMistake {
  const char *from, *to, *message, *hint;
  bool is_error = false;
};

class FieldMistakes : public testing::TestWithParam<FieldMistake> {};

TEST_P(FieldMistakes, AreFoundWithTheirPlace) {
  std::string text = kSound;
  const FieldMistake& m = GetParam();
  const std::size_t at = text.find(m.from);
  ASSERT_NE(at, std::string::npos) << m.from;
  text.replace(at, std::string(m.from).size(), m.to);
  std::string all;
  for (const Finding& f : all_findings(text)) {
    std::istringstream lines(text);
    std::string line;
    for (std::size_t n = 0; n < f.place.line; ++n) std::getline(lines, line);
    const std::string here = line.substr(std::min(line.size(), f.place.column - 1), f.length);
    all += f.message + " | " + f.hint + " | " + here + "\n";
    if (f.message.find(m.message) == std::string::npos || f.hint.find(m.hint) == std::string::npos) continue;
    EXPECT_EQ(f.is_error, m.is_error);
    EXPECT_NE(f.message.find("`" + here + "`"), std::string::npos) << here << ": " << f.message;
    return;
  }
  ADD_FAILURE() << "not told; found: " << all;
}

INSTANTIATE_TEST_SUITE_P(
    All, FieldMistakes,
    testing::Values(
        FieldMistake{"\"log.file.path like", "\"log.file.pth like", "field `log.file.pth` here: nothing",
                     "`log.file.path`"},
        FieldMistake{"and service.name =", "and service.nam =", "`service.nam`",
                     "did you mean `service.name`"},
        FieldMistake{"\"body like", "\"bdoy like", "`bdoy`", "`body`"},
        FieldMistake{"\"body like '#%'\"", "\"status = 204\"", "`status` is made by step 1 (`parse`)",
                     "- drop:", true},
        FieldMistake{"\"log.file.path like", "\"ship like",
                     "`ship` is made by step 1 (`parse`) of `gate`, and `where`", "drop", true},
        FieldMistake{"time: { field: at }", "time: { field: att }", "`att`", "`at`"},
        FieldMistake{"\"status = 204", "\"stat = 204", "`stat`", ""},
        FieldMistake{"user = 'probe'", "usr = 'probe'", "`usr`", "did you mean `user`"},
        FieldMistake{"user = 'probe'", "at is null", "`at` here: step 2 (`time`) has taken it away",
                     "before"},
        FieldMistake{"user = 'probe'", "severty = 'x'", "`severty`", ""},
        FieldMistake{"where: \"status >= 500\" }", "where: \"staus >= 500\" }", "`staus`",
                     "did you mean `status`"},
        FieldMistake{"user = 'probe'", "user = probe", "`probe`", "a text stands in single quotes: 'probe'"},
        FieldMistake{"user = 'probe'", "user =\\\"probe\\\"", "`probe`",
                     "in double quotes stands a field's name"},
        FieldMistake{"{ user: user.name }", "{ usr: user.name }", "`usr`", "`user`"},
        FieldMistake{"fields: [ship], where: \"status < 500\"", "fields: [shp]", "`shp`", "`ship`"},
        FieldMistake{"\"status < 500\"", "\"statsu < 500\"", "`statsu`", "`status`"},
        FieldMistake{"\"network.transport = 'udp'\"", "\"syslog.facility = 'auth'\"",
                     "`syslog.facility` is a number, and `auth` is none: this never holds",
                     "compare it with a number"},
        FieldMistake{"\"status >= 500 and severity_number", "\"statos >= 500 and severity_number", "`statos`",
                     "`status`"},
        FieldMistake{"severity_number > 16", "severity_nmber > 16", "`severity_nmber`", "`severity_number`"},
        FieldMistake{"user.name is not null\"", "user is not null\"",
                     "`user` here: step 5 (`rename`) has taken it away", ""},
        FieldMistake{"field: payload, prefix", "field: bdy, prefix", "only the data may bring a field `bdy`",
                     "`body`"},
        FieldMistake{"by: [crane.id, host.name]", "by: [crane.id, host.nme]", "`host.nme`", "`host.name`"},
        FieldMistake{"by: [crane.id, host.name]", "by: [tons2, host.name]", "`tons2`", ""},
        FieldMistake{"by: [tons, dingle.part]", "by: [tns, dingle.part]", "`tns`", "`tons`"},
        FieldMistake{"by: [tons, dingle.part]", "by: [tons, dingle.prt]", "`dingle.prt`", "`dingle.part`"},
        FieldMistake{"by: [tons, dingle.part]", "by: [service.name]", "`service.name` here: nothing",
                     "one of"},
        FieldMistake{"\"network.transport = 'udp'\"", "\"network.trnsport = 'udp'\"", "`network.trnsport`",
                     "`network.transport`"},
        FieldMistake{"\"dingle.template = 1\"", "\"dingle.tmplate = 1\"", "`dingle.tmplate`",
                     "`dingle.template`"},
        FieldMistake{"\"network.peer.address is", "\"network.peer.adress is", "`network.peer.adress`",
                     "`network.peer.address`"},
        FieldMistake{"{dingle.pipeline}-", "{dingle.pipelin}-", "`dingle.pipelin`", "`dingle.pipeline`"},
        FieldMistake{"alerts-{severity}", "alerts-{severty}", "`severty`", "`severity`"},
        FieldMistake{"weights-{tons}", "weights-{tonns}", "`tonns`", "`tons`"},
        FieldMistake{"'quay of {ship}'", "'quay of {shp}'", "`shp`", "`ship`"},
        FieldMistake{"max(timestamp)", "max(timestmp)", "`timestmp`", "`timestamp`"}));

TEST(FieldsOfConfigurations, StoringTwiceIsToldOnce) {
  std::string text = kSound;
  text.replace(text.find("  radio:\n    from"), 0, "  again: { from: [hoist], to: [store] }\n");
  std::size_t told = 0;
  for (const Finding& f : all_findings(text))
    told += f.message == "`crane` sends all lines of `hoist` to `store` too: each is stored twice";
  EXPECT_EQ(told, 1u);
}

TEST(FieldsOfConfigurations, TheDemoHasNoWarning) {
  std::ifstream in(std::string(DINGLE_SOURCE) + "/demo/dingle.yaml");
  std::ostringstream text;
  text << in.rdbuf();
  std::string demo = text.str();
  for (const char* file : {"demo/customs", "demo/places"})
    demo.replace(demo.find(file), 4, std::string(DINGLE_SOURCE) + "/demo");
  for (const Finding& f : all_findings(demo)) ADD_FAILURE() << f.message << " " << f.hint;
}

}  // namespace
}  // namespace dingle
