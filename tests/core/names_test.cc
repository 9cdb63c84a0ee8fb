#include "core/names.h"

#include <gtest/gtest.h>

#include "core/arena.h"
#include "core/json_fields.h"

namespace dingle {
namespace {

TEST(NameDictionary, HasNamesOfItsOwnAndThoseThatLast) {
  const FieldId lasting = field_id("crane.id");
  NameDictionary names, other;
  EXPECT_EQ(names.id("crane.id"), lasting);
  const FieldId own = names.id("only in the data");
  EXPECT_EQ(names.id("only in the data"), own);
  EXPECT_NE(other.id("only in the data"), own);
  EXPECT_EQ(field_name(own), "only in the data");
  EXPECT_FALSE(own->lasting);
  EXPECT_EQ(names.id(""), kNoField);
  EXPECT_EQ(names.id(std::string(257, 'x')), kNoField);
  EXPECT_NE(names.id(std::string(256, 'x')), kNoField);
}

TEST(NameDictionary, StaysAsItIsWhenANameIsInternedMeanwhile) {
  NameDictionary names;
  const FieldId before = names.id("interned meanwhile");
  const FieldId lasting = field_id("interned meanwhile");
  EXPECT_NE(before, lasting);
  EXPECT_EQ(names.id("interned meanwhile"), before) << "or an event could have two fields of one name";
  const std::uint64_t serial = names.serial();
  names.clear();
  EXPECT_NE(names.serial(), serial);
  EXPECT_EQ(names.id("interned meanwhile"), lasting);
}

TEST(NameDictionary, NamesOfTheEventItselfAreNotForTheData) {
  NameDictionary names;
  EXPECT_EQ(field_name(names.foreign_id("body")), "line.body");
  EXPECT_EQ(field_name(names.foreign_id("dingle.pipeline")), "line.dingle.pipeline");
  EXPECT_EQ(field_name(names.foreign_id("bodies")), "bodies");
}

// As many batches as there may ever be, each with other keys: none is left out, and none stays.
TEST(NameDictionary, NamesDoNotRunOut) {
  for (int batch = 0; batch < 300; ++batch) {
    Arena arena;
    std::vector<Field> fields;
    JsonCounts counts;
    std::string text = "{\"shared\":1";
    for (int i = 0; i < 999; ++i) text += ",\"k" + std::to_string(batch) + "-" + std::to_string(i) + "\":2";
    EXPECT_EQ(json_members(text + "}", {}, arena, fields, counts), "");
    ASSERT_EQ(fields.size(), 1000u);
    EXPECT_EQ(counts.unnamed, 0u);
    EXPECT_EQ(field_name(fields[0].name), "shared");
    EXPECT_EQ(field_name(fields[999].name), "k" + std::to_string(batch) + "-998");
  }
  EXPECT_NE(field_id("a configuration's new name"), kNoField);
  EXPECT_TRUE(field_id("a configuration's new name")->lasting);
}

TEST(NameDictionary, ArenasMayShareOne) {
  Arena a, b;
  b.share_names(a);
  const FieldId id = a.names().id("only here");
  EXPECT_EQ(b.names().id("only here"), id);
  Arena moved = std::move(a);
  EXPECT_EQ(moved.names().id("only here"), id);
}

}  // namespace
}  // namespace dingle
