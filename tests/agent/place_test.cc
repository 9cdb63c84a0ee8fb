// Databases of places, and `locate`.
#include <gtest/gtest.h>

#include <fstream>
#include <random>

#include "agent/configuration.h"
#include "agent/tables/place_file.h"
#include "demo/place_writer.h"
#include "tests/core/step_fixture.h"

// The library does not free all when the texts of a file's metadata are damaged.
extern "C" const char* __lsan_default_suppressions() { return "leak:libmaxminddb"; }

namespace dingle {
namespace {

std::string read_file(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  return std::string(std::istreambuf_iterator<char>(in), {});
}
const std::string kDemo = std::string(DINGLE_SOURCE) + "/demo/places";

std::shared_ptr<const Table> places_of(const std::string& ndjson) {
  auto table = read_places(write_places(ndjson));
  EXPECT_TRUE(table) << (table ? "" : table.problem().message);
  return table ? *table : nullptr;
}

// What is known of an address, by these ways.
std::string known(const Table& table, std::string_view address, const std::vector<PlaceTable::Path>& paths) {
  Table::Found found;
  std::string text;
  for (const Value& v : table.places()->find(address, paths, found))
    text += (text.empty() ? "" : "|") +
            (v.absent() ? "-" : std::string(kind_name(v.kind())) + ":" + v.to_string());
  return text;
}

TEST(Places, AreFoundByTheNarrowestRange) {
  const auto t =
      places_of(R"({"net":"192.0.2.0/24","city":{"names":{"en":"Northquay"}},"location":{"latitude":62.5}}
{"net":"192.0.2.16/28","city":{"names":{"en":"Ternholm","no":"Terneholmen"}},"n":[7,{"x":true}]}
{"net":"2001:db8::/32","city":{"names":{"en":"At sea"}}})");
  const std::vector<PlaceTable::Path> paths{
      {"city", "names", "en"}, {"location", "latitude"}, {"n", "0"}, {"n", "1", "x"}, {"city"}, {"n", "7"}};
  EXPECT_EQ(known(*t, "192.0.2.1", paths), "text:Northquay|decimal:62.5|-|-|-|-");
  EXPECT_EQ(known(*t, "192.0.2.17", paths), "text:Ternholm|-|int:7|boolean:true|-|-");
  EXPECT_EQ(known(*t, "::ffff:192.0.2.17", paths), "text:Ternholm|-|int:7|boolean:true|-|-");
  EXPECT_EQ(known(*t, "2001:db8::7", paths), "text:At sea|-|-|-|-|-");
  for (const char* nowhere : {"198.51.100.1", "2001:db9::", "Tern", ""})
    EXPECT_EQ(known(*t, nowhere, paths), "") << nowhere;
  EXPECT_TRUE(t->contains("192.0.2.200"));
  EXPECT_FALSE(t->contains("192.0.3.1"));
  EXPECT_EQ(t->places()->known_paths(), (std::vector<std::string>{"city.names.en", "city.names.no",
                                                                  "location.latitude", "n.0", "n.1.x"}));
}

TEST(Places, TheDemosAreWhatItsTextSays) {
  EXPECT_EQ(read_file(kDemo + ".mmdb"), write_places(read_file(kDemo + ".ndjson")));
}

TEST(Places, DamagedFilesAreRefusedOrKnowLess) {
  EXPECT_FALSE(read_places(""));
  EXPECT_FALSE(read_places("a,b\n1,2\n"));
  const std::string sound = read_file(kDemo + ".mmdb");
  std::mt19937 random(7);
  std::size_t refused = 0;
  for (int i = 0; i < 3000; ++i) {
    std::string file = sound;
    for (int bits = 0; bits <= i % 4; ++bits) {
      const std::size_t at = i % 2 == 0
                                 ? random() % file.size()
                                 : file.size() - 1 - random() % std::min<std::size_t>(600, file.size());
      file[at] = static_cast<char>(file[at] ^ 1 << random() % 8);
    }
    if (i % 5 == 0) file.resize(random() % file.size());
    auto table = read_places(file);
    refused += !table;
    for (int a = 0; table && a < 64; ++a)
      known(**table, a % 8 == 0 ? "2001:db8::1" : "192.0.2." + std::to_string(a),
            {{"city", "names", "en"}, {"location", "latitude"}, {"subdivisions", "0", "iso_code"}});
  }
  EXPECT_GT(refused, 600u);
}

struct LocateCase {
  const char *take, *line, *fields;
};
class Locates : public testing::TestWithParam<LocateCase> {};
TEST_P(Locates, SaysWhere) {
  const std::string yaml = "version: 1\ntables: { places: { file: " + kDemo +
                           ".mmdb, format: mmdb } }\nsources: { in: { files: { paths: [/nowhere/*.log] } } "
                           "}\npipelines:\n  a:\n    from: "
                           "[in]\n    where: \"body in table places or body like 'x%' or true\"\n    steps: "
                           "[parse: { templates: ['{a:ip}', "
                           "'{b}'] }, locate: { table: places, by: a" +
                           GetParam().take + " }]\n    to: [out]\ndestinations: { out: { nowhere: {} } }\n";
  Findings findings("");
  const auto c = read_configuration(yaml, findings);
  ASSERT_TRUE(c) << (findings.all().empty() ? "" : findings.all()[0].message);
  Trial r = run({GetParam().line});
  StepTally parsed, located;
  c->pipelines[0].pipeline->step(0, r.batch, parsed, r.present);
  c->pipelines[0].pipeline->step(1, r.batch, located, r.present);
  EXPECT_EQ(r.fields(0), GetParam().fields);
  EXPECT_EQ(located.missed,
            std::string_view(GetParam().fields).find('.') == std::string_view::npos ? 1u : located.missed);
}
INSTANTIATE_TEST_SUITE_P(
    All, Locates,
    testing::Values(
        LocateCase{"", "192.0.2.17",
                   "a=192.0.2.17 geo.continent.code=EU geo.country.iso_code=XS geo.region.iso_code=XS-S "
                   "geo.locality.name=Ternholm "
                   "geo.location.lat=61.62 geo.location.lon=4.98"},
        LocateCase{"", "2001:db8::1",
                   "a=2001:db8::1 geo.continent.code=EU geo.country.iso_code=XS geo.locality.name=At sea"},
        LocateCase{", take: { land: country.names.en }", "192.0.2.1", "a=192.0.2.1 land=The Skerries"},
        LocateCase{"", "Tern", "b=Tern"}));

struct WrongLocate {
  const char *from, *to, *says;
};
class WrongLocates : public testing::TestWithParam<WrongLocate> {};
TEST_P(WrongLocates, IsTold) {
  std::string yaml = "version: 1\ntables: { places: { file: " + kDemo +
                     ".mmdb, format: mmdb }, seen: { noted: [user, gate] } }\nsources: { in: { files: { "
                     "paths: [/nowhere/*.log] } } "
                     "}\npipelines:\n  a:\n    from: [in]\n    steps:\n      - parse: { templates: ['{a:ip} "
                     "{user} {gate}'] }\n      - locate: { "
                     "table: places, by: a, take: { town: city.names.en } }\n      - note: { table: seen, "
                     "by: a, columns: { user: user } }\n   "
                     "   - lookup: { table: seen, by: a, take: { who: user } }\n    to: [out]\ndestinations: "
                     "{ out: { nowhere: {} } }\n";
  if (const std::string from = GetParam().from; !from.empty()) {
    ASSERT_NE(yaml.find(from), std::string::npos) << from;
    yaml.replace(yaml.find(from), from.size(), GetParam().to);
  }
  Findings findings("");
  read_configuration(yaml, findings);
  std::string all;
  for (const Finding& f : findings.all()) all += f.message + "; " + f.hint + "\n";
  if (*GetParam().says == '\0')
    EXPECT_EQ(all, "");
  else
    EXPECT_NE(all.find(GetParam().says), std::string::npos) << all;
}
INSTANTIATE_TEST_SUITE_P(
    All, WrongLocates,
    testing::Values(
        WrongLocate{"", "", ""},
        WrongLocate{"city.names.en", "city.name.en", "has `city.name.en`; did you mean `city.names.en`?"},
        WrongLocate{"locate: { table: places", "locate: { table: seen", "`seen` is no database of places"},
        WrongLocate{"locate: { table: places", "locate: { table: place", "there is no table `place`"},
        WrongLocate{"lookup: { table: seen", "lookup: { table: places",
                    "`places` is a database of places; locate: {"},
        WrongLocate{"note: { table: seen", "note: { table: places", "the table `places` is read from a file"},
        WrongLocate{"columns: { user: user }", "columns: { usr: user }",
                    "has no column `usr`; did you mean `user`?"},
        WrongLocate{"columns: { user: user }", "columns: { user: usr }", "usr"},
        WrongLocate{"take: { who: user }", "take: { who: uzer }",
                    "has no column `uzer`; did you mean `user`?"},
        WrongLocate{"noted: [user, gate]", "noted: [user, user]", "each once"},
        WrongLocate{"noted: [user, gate]", "noted: [user, gate], key: user",
                    "`key` is for tables of rows in a file"},
        WrongLocate{"noted: [user, gate]", "noted: [user, gate], file: x", "has `file` and `noted`"},
        WrongLocate{"{ noted: [user, gate] }", "{ key: user }", "neither `file` nor `noted`"},
        WrongLocate{"format: mmdb", "format: mmdb, match: range", "places are found by their addresses"},
        WrongLocate{"format: mmdb", "format: ndjson", "is no database of places"},
        WrongLocate{"note: { table: seen, by: a, columns: { user: user } }",
                    "drop: { where: \"user = 'x'\" }", "no step fills the table `seen`"},
        WrongLocate{
            "      - lookup:", "      - note: { table: seen, by: user, name: second }\n      - lookup:",
            "two steps fill the table `seen`"}));

}  // namespace
}  // namespace dingle
