// Tables that events fill.
#include <gtest/gtest.h>

#include "core/tables/noted_table.h"
#include "tests/core/remembers.h"

namespace dingle {
namespace {

// A `note` of column `n` by `k`.
struct Notes {
  std::shared_ptr<TableHandle> handle =
      std::make_shared<TableHandle>("seen", TableHandle::Form::noted, std::vector<std::string>{"n", "body"});
  Tables tables{{"seen", handle}};
  TableScope scope{tables};
  Remembers r;

  explicit Notes(std::vector<std::pair<std::string, Node>> options = {})
      : r("note", with(std::move(options))) {
    r.step_().show(*r.memory);
  }
  static Node with(std::vector<std::pair<std::string, Node>> options) {
    options.insert(options.begin(), {{"table", scalar("seen")}, {"by", scalar("k")}});
    return map(std::move(options));
  }
  // The row's columns.
  std::string row(std::string_view key) const {
    Table::Found found;
    std::string text;
    const auto table = handle->now();
    for (const Value& v : table->find(key, found))
      text += (text.empty() ? "" : "|") + (v.absent() ? "-" : v.to_string());
    return text;
  }
  void restart() {
    r.restart();
    r.step_().show(*r.memory);
  }
};

TEST(Note, TheLastRowOfAKeyCounts) {
  Notes n;
  EXPECT_EQ(n.r.turn({{"Tern", Value::integer(1)},
                      {"Auk", Value()},
                      {"Tern", Value::decimal(2.5)},
                      {"", Value::integer(9)}}),
            (Texts{"Tern 1", "Auk ", "Tern 2.5", " 9"}));
  EXPECT_EQ(n.row("Tern"), "2.5|Tern 2.5");
  EXPECT_EQ(n.row("Auk"), "-|Auk ");
  EXPECT_EQ(n.row("Skua"), "");
  EXPECT_EQ(n.r.tally.missed, 1u) << "an event without the field";
  EXPECT_EQ(n.r.kept.size(), 2u);
  n.restart();
  EXPECT_EQ(n.row("Tern"), "2.5|Tern 2.5");
}

TEST(Note, OnlyWhatIsNewIsSaidAgain) {
  Notes n;
  n.r.turn({{"Tern", Value::integer(1)}});
  const auto kept = n.r.kept;
  n.r.now += 60 * kSecond;
  n.r.turn({{"Tern", Value::integer(1)}});
  EXPECT_EQ(n.r.kept, kept);
  n.r.now += 3600 * 2 * kSecond;  // more than a sixteenth of a day
  n.r.turn({{"Tern", Value::integer(1)}});
  EXPECT_NE(n.r.kept, kept) << "it would be forgotten too early";
}

TEST(Note, RowsAreForgotten) {
  Notes n({{"longest", scalar("60s")}});
  n.r.turn({{"Tern", Value::integer(1)}});
  n.r.now += 30 * kSecond;
  n.r.turn({{"Auk", Value::integer(2)}});
  EXPECT_LE(n.r.memory->next_due(), n.r.now + 34 * kSecond);
  n.r.now += 35 * kSecond;
  n.r.tick();
  EXPECT_EQ(n.row("Tern"), "");
  EXPECT_EQ(n.row("Auk"), "2|Auk 2");
  n.restart();
  EXPECT_EQ(n.row("Auk"), "2|Auk 2");
  n.r.turn({}, Turn::Why::everything);
  EXPECT_EQ(n.row("Auk"), "");
  EXPECT_TRUE(n.r.kept.empty());
  EXPECT_EQ(n.r.memory->next_due(), kNever);
}

TEST(Note, AnEventMayTakeARowAway) {
  Notes n({{"forget", scalar("n = 0")}});
  n.r.turn({{"Tern", Value::integer(1)},
            {"Auk", Value::integer(1)},
            {"Tern", Value::integer(0)},
            {"Skua", Value::integer(0)}});
  EXPECT_EQ(n.row("Tern"), "");
  EXPECT_EQ(n.row("Auk"), "1|Auk 1");
  EXPECT_EQ(n.r.kept.size(), 1u);
}

TEST(Note, ColumnsAreChosen) {
  Notes n({{"columns", map({{"n", scalar("k")}})}});
  n.r.turn({{"Tern", Value::integer(1)}});
  EXPECT_EQ(n.row("Tern"), "Tern|-");
}

TEST(Note, MemoryIsBoundedByKeysAndBytes) {
  Notes n({{"most_keys", scalar("100", false)}});
  for (int i = 0; i < 1000; ++i) n.r.turn({{"key " + std::to_string(i), Value::integer(i)}});
  EXPECT_LE(n.r.memory->size().entries, 100u);
  EXPECT_GE(n.r.memory->size().entries, 93u);
  EXPECT_EQ(n.r.tally.early, 1000 - n.r.memory->size().entries);
  EXPECT_EQ(n.row("key 999"), "999|key 999 999") << "those noted longest ago go";
  EXPECT_EQ(n.r.kept.size(), n.r.memory->size().entries);
  Notes bytes({{"most_bytes", scalar("64KiB")}});
  for (int i = 0; i < 100; ++i)
    bytes.r.turn({{std::string(1000, 'x') + std::to_string(i), Value::integer(i)}});
  EXPECT_LE(bytes.r.memory->size().bytes, 64u * 1024);
  EXPECT_GE(bytes.r.memory->size().entries, 20u);
  Notes one({{"most_keys", scalar("1", false)}});
  one.r.turn({{"a", Value()}, {"b", Value()}, {"c", Value()}});
  EXPECT_EQ(one.row("c"), "-|c ");
  EXPECT_EQ(one.r.memory->size().entries, 1u);
}

TEST(Note, WhatIsTooLongFails) {
  Notes n;
  n.r.turn({{std::string(1025, 'k'), Value::integer(1)},
            {"Tern", Value::text(std::string_view(std::string(5000, 'x')))}});
  EXPECT_EQ(n.r.tally.failed, 2u);
  EXPECT_EQ(n.r.memory->size().entries, 0u);
}

TEST(Note, DamagedRowsAreRefused) {
  Notes n;
  n.r.turn({{"Tern", Value::integer(1)}});
  const auto [key, value] = *n.r.kept.begin();
  for (std::size_t size = 0; size < value.size(); ++size)
    EXPECT_FALSE(n.r.step_().restore(*n.r.memory, key, value.substr(0, size), n.r.now)) << size;
  EXPECT_FALSE(n.r.step_().restore(*n.r.memory, key, value + "x", n.r.now));
  EXPECT_FALSE(n.r.step_().restore(*n.r.memory, "", value, n.r.now));
  EXPECT_FALSE(n.r.step_().restore(*n.r.memory, "x", value, n.r.now));
}

TEST(NotedTable, KeysKeepTheirType) {
  NotedTable table({});
  const auto note = [&](const Value& key, const std::string& text) {
    std::string row;
    ByteWriter out(row);
    NotedTable::write_row(key, text, {}, out);
    table.note(text, row, 1, 0);
  };
  note(Value::integer(219), "219");
  note(Value::text("Tern"), "Tern");
  note(Value::text(""), "");
  note(Value::ip("192.0.2.7"), "192.0.2.7");
  std::string seen;
  table.each_key([&](const Value& v) {
    return seen += std::string(kind_name(v.kind())) + ":" + v.to_string() + " ", true;
  });
  EXPECT_EQ(seen, "text: ip:192.0.2.7 int:219 text:Tern ");
  EXPECT_TRUE(table.contains(""));
  EXPECT_EQ(table.size(), 4u);
}

}  // namespace
}  // namespace dingle
