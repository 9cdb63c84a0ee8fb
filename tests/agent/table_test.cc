// Look-up tables: how they are read, found in, and kept up to date.
#include <gtest/gtest.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <thread>

#include "agent/configuration.h"
#include "agent/tables/table_watch.h"
#include "agent/yaml.h"
#include "core/condition/condition.h"
#include "tests/core/step_fixture.h"

namespace dingle {
namespace {

Options table_options_of(const std::string& yaml) {
  Findings findings("");
  const Node node = read_yaml(yaml, findings);
  return Options::read(table_options(), node, "ships", findings);
}

std::shared_ptr<const Table> table_of(const std::string& yaml, const std::string& text) {
  auto table = read_table(table_options_of(yaml), text);
  EXPECT_TRUE(table) << (table ? "" : table.problem().message);
  return table ? *table : nullptr;
}

// Of the row that was asked for last.
std::span<const Value> row(const Table& table, std::string_view key) {
  static Table::Found found;
  return table.find(key, found);
}

std::string found(const Table& table, std::string_view key) {
  std::string out;
  for (const Value& v : row(table, key)) out += (out.empty() ? "" : " ") + (v.absent() ? "-" : v.to_string());
  return out;
}

TEST(Table, FindsWholeKeys) {
  const auto t =
      table_of("{ file: x, key: mmsi }",
               "name,mmsi,crew\nTern,219000001,12\n\"Auk, the\",219000002,\nTern II,219000001,007\n");
  EXPECT_EQ(found(*t, "219000002"), "Auk, the 219000002 -");
  EXPECT_EQ(found(*t, "219000001"), "Tern II 219000001 007");  // the last counts
  EXPECT_EQ(t->doubled(), 1u);
  EXPECT_EQ(found(*t, "219"), "");
  EXPECT_EQ(row(*t, "219000002")[1].kind(), Kind::integer);
  EXPECT_EQ(row(*t, "219000001")[2].kind(), Kind::text);  // 007 is no JSON number
}

TEST(Table, FindsTheNarrowestRange) {
  const auto t = table_of("{ file: x, match: range }",
                          "net,place\n192.0.2.0/24,quay\n192.0.2.128/25,gate\n192.0.2.200,crane\n2001:db8::/"
                          "32,ship\n0.0.0.0/0,else\n");
  const auto place = [&](const char* key) { return row(*t, key).empty() ? "" : row(*t, key)[1].to_string(); };
  EXPECT_EQ(place("192.0.2.7"), "quay");
  EXPECT_EQ(place("192.0.2.129"), "gate");
  EXPECT_EQ(place("192.0.2.200"), "crane");
  EXPECT_EQ(place("2001:db8:7::1"), "ship");
  EXPECT_EQ(place("198.51.100.1"), "else");
  EXPECT_EQ(place("2001:db9::"), "");
  EXPECT_EQ(place("no address"), "");
}

TEST(Table, FindsDomainsAndWildcards) {
  const auto d = table_of("{ file: x, match: domain }",
                          "name,kind\nskerry.example,ours\n.mail.skerry.example,mail\nexample,tld\n");
  EXPECT_EQ(found(*d, "www.Skerry.example."), "skerry.example ours");
  EXPECT_EQ(found(*d, "a.b.mail.skerry.example"), ".mail.skerry.example mail");
  EXPECT_EQ(found(*d, "xskerry.example"), "example tld");
  EXPECT_EQ(found(*d, "skerry.test"), "");
  const auto w = table_of("{ file: x, match: wildcard }", "path,kind\n/gate/*,gate\n/gate/7,seven\n/*,any\n");
  EXPECT_EQ(found(*w, "/gate/7"), "/gate/7 seven");
  EXPECT_EQ(found(*w, "/gate/8"), "/gate/* gate");
  EXPECT_EQ(found(*w, "/x"), "/* any");
  EXPECT_EQ(found(*w, "x"), "");
}

TEST(Table, ReadsNdjson) {
  const auto t = table_of("{ file: x, format: ndjson, key: id }",
                          "{\"id\":7,\"name\":\"Tern\",\"crew\":[1,2]}\n\n{\"id\":8,\"late\":true}\n");
  EXPECT_EQ(t->columns(), (std::vector<std::string>{"id", "name", "crew", "late"}));
  EXPECT_EQ(found(*t, "7"), "7 Tern [1,2] -");
  EXPECT_EQ(found(*t, "8"), "8 - - true");
}

struct BadTable {
  const char *options, *text, *says;
};
class BadTables : public testing::TestWithParam<BadTable> {};
TEST_P(BadTables, SayTheLine) {
  const auto t = read_table(table_options_of(GetParam().options), GetParam().text);
  ASSERT_FALSE(t) << GetParam().text;
  EXPECT_NE((t.problem().message + " " + t.problem().hint).find(GetParam().says), std::string::npos)
      << t.problem().message;
}
INSTANTIATE_TEST_SUITE_P(
    All, BadTables,
    testing::Values(
        BadTable{"{ file: x }", "", "the file is empty"},
        BadTable{"{ file: x }", "a,b\n1\n", "line 2: 1 cells, and 2 columns"},
        BadTable{"{ file: x }", "a,b\n1,2\n\"x\ny\",2,3\n", "line 3: 3 cells"},
        BadTable{"{ file: x }", "a\n\"x\n", "a quote is not closed"},
        BadTable{"{ file: x }", "a,b\n\"x\"y,2\n", "behind a closing quote"},
        BadTable{"{ file: x, key: idd }", "id,b\n1,2\n", "did you mean `id`"},
        BadTable{"{ file: x, match: range }", "a\n192.0.2.0/33\n", "line 2: `192.0.2.0/33` is no key"},
        BadTable{"{ file: x, match: range }", "a\nTern\n", "is no key"},
        BadTable{"{ file: x, match: domain }", "a\n.\n", "is no key"},
        BadTable{"{ file: x, format: ndjson }", "{\"a\":1}\n[1]\n", "line 2: this is no JSON object"},
        BadTable{"{ file: x, format: ndjson }", "{\"a\":[[[[[[[[[[[[[[[[[[1]]]]]]]]]]]]]]]]]]}",
                 "too deeply"}));

class TableFiles : public testing::Test {
 protected:
  void write(const std::string& text) {
    std::ofstream(path_ + ".new") << text;
    std::filesystem::rename(path_ + ".new", path_);
  }
  template <class Condition>
  bool wait(Condition condition) {
    for (int i = 0; i < 1000; ++i, std::this_thread::sleep_for(std::chrono::milliseconds(10)))
      if (condition()) return true;
    return false;
  }
  void TearDown() override { std::filesystem::remove(path_); }
  std::string path_ = testing::TempDir() + "/ships-" + std::to_string(::getpid()) + ".csv";
};

TEST_F(TableFiles, AreReadAnewAndStayAsTheyWereWhileTheyAreBad) {
  write("id,name\n1,Tern\n");
  TableSettings table{"ships", path_, table_options_of("{ file: " + path_ + " }"),
                      std::make_shared<TableHandle>("ships")};
  std::vector<std::string> told;
  Problems problems([](const Problems::Problem&, Problems::Said) {});
  const TableWatch watch([&] { return std::vector<TableSettings>{table}; }, problems);
  const auto name = [&] {
    const auto now = table.handle->now();
    return now && !row(*now, "1").empty() ? row(*now, "1")[1].to_string() : "";
  };
  EXPECT_TRUE(wait([&] { return name() == "Tern"; }));
  write("id,name\n1,Auk\n");
  EXPECT_TRUE(wait([&] { return name() == "Auk"; }));
  write("id,name\n1,Skua,7\n");
  EXPECT_TRUE(wait([&] { return problems.all().size() == 1; }));
  EXPECT_EQ(problems.all()[0].text, "line 2: 3 cells, and 2 columns; the table as it was stays");
  EXPECT_EQ(name(), "Auk");
  std::filesystem::remove(path_);
  EXPECT_TRUE(wait([&] {
    return !problems.all().empty() && problems.all()[0].text.find("cannot be read") != std::string::npos;
  }));
  EXPECT_EQ(name(), "Auk");
  write("id,name\n1,Skua\n");
  EXPECT_TRUE(wait([&] { return name() == "Skua" && problems.all().empty(); }));
}

TEST(TablesInConditions, NamesMayHaveDashes) {
  const Tables tables{{"quay-7", std::make_shared<TableHandle>("quay-7")}};
  const TableScope scope(tables);
  for (const char* text :
       {"a in table quay-7", "a in table quay-7 and b", "(a not in table quay-7)", "a in table \"quay-7\""})
    EXPECT_TRUE(Condition::parse(text)) << text;
  const auto wrong = Condition::parse("a in table quay-8 or b");
  ASSERT_FALSE(wrong);
  EXPECT_EQ(wrong.problem().offset, 11u);
  EXPECT_EQ(wrong.problem().length, 6u);
  EXPECT_EQ(wrong.problem().hint, "did you mean `quay-7`?");
  EXPECT_FALSE(Condition::parse("a in table 7"));
}

TEST_F(TableFiles, AreNamedByStepsAndConditions) {
  write("mmsi,name,crew\n219,Tern,12\n");
  const std::string yaml =
      "version: 1\ntables: { ships: { file: " + path_ +
      " } }\nsources: { in: { files: { paths: [/nowhere/*.log] } } }\npipelines:\n  a:\n    from: [in]\n    "
      "where: \"body in table ships\"\n"
      "    steps: [parse: { templates: ['{mmsi:int}'] }, lookup: { table: ships, by: "
      "mmsi, take: { ship: name } }]\n"
      "    to: [out]\ndestinations: { out: { nowhere: {} } }\n";
  Findings findings("");
  const auto c = read_configuration(yaml, findings);
  ASSERT_TRUE(c) << (findings.all().empty() ? "" : findings.all()[0].message);
  EXPECT_TRUE(findings.all().empty());
  const Pipeline& p = *c->pipelines[0].pipeline;
  Trial r = run({"219", "220"});
  EXPECT_TRUE(p.where->holds(EventReader(r.batch, r.batch.events[0])));
  EXPECT_FALSE(p.where->holds(EventReader(r.batch, r.batch.events[1])));
  StepTally parsed, looked;
  p.step(0, r.batch, parsed, r.present);
  p.step(1, r.batch, looked, r.present);
  EXPECT_EQ(r.fields(0), "mmsi=219 ship=Tern");
  EXPECT_EQ(r.fields(1), "mmsi=220");
  EXPECT_EQ(looked.missed, 1u);
  for (const auto& [from, to, says] : {std::tuple{"table: ships", "table: ship", "did you mean `ships`"},
                                       {"in table ships", "in table shps", "did you mean `ships`"},
                                       {"ship: name", "ship: nam", "did you mean `name`"}}) {
    std::string wrong = yaml;
    wrong.replace(wrong.find(from), std::string_view(from).size(), to);
    Findings mistakes("");
    EXPECT_EQ(read_configuration(wrong, mistakes), nullptr);
    ASSERT_FALSE(mistakes.all().empty());
    EXPECT_NE(mistakes.all()[0].hint.find(says), std::string::npos)
        << mistakes.all()[0].message << mistakes.all()[0].hint;
  }
}

}  // namespace
}  // namespace dingle
