#include "agent/sealing.h"

#include <gtest/gtest.h>

#include <cstdlib>

namespace dingle {
namespace {

TEST(Sealing, OpensWithItsKeyAlone) {
  ::setenv("DINGLE_TEST_KEY", "the ferry's key", 1);
  const auto sealing = sealing_with("env:DINGLE_TEST_KEY");
  EXPECT_EQ(sealing->problem(), "");
  for (const std::string& text :
       {std::string(), std::string("kestrel"), std::string(100'000, 'x'), std::string("\0\xff", 2)}) {
    const std::string sealed = sealing->seal(text);
    EXPECT_EQ(open_sealed(sealed, "the ferry's key"), text);
    EXPECT_EQ(open_sealed(sealed, "another key"), std::nullopt);
    EXPECT_NE(sealing->seal(text), sealed);  // another nonce
    std::string changed = sealed;
    changed[changed.size() / 2] = changed[changed.size() / 2] == 'A' ? 'B' : 'A';
    EXPECT_EQ(open_sealed(changed, "the ferry's key"), std::nullopt);
  }
  for (const char* text : {"", "A", "!", "AQ", "AQAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"})
    EXPECT_EQ(open_sealed(text, "the ferry's key"), std::nullopt) << text;
}

// RFC 4231, test case 2.
TEST(Sealing, DigestsAreThoseOfTheStandard) {
  ::setenv("DINGLE_TEST_KEY", "Jefe", 1);
  EXPECT_EQ(sealing_with("env:DINGLE_TEST_KEY")->digest("what do ya want for nothing?"),
            "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
}

TEST(Sealing, WithoutItsKeyItDoesNothing) {
  const auto sealing = sealing_with("env:DINGLE_TEST_NO_SUCH_KEY");
  EXPECT_NE(sealing->problem(), "");
  EXPECT_EQ(sealing->digest("x"), "");
  EXPECT_EQ(sealing->seal("x"), "");
}

}  // namespace
}  // namespace dingle
