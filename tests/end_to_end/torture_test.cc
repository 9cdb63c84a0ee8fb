// The torture in short; scripts/torture runs it for as long as one likes.
#include <gtest/gtest.h>

#include "tests/end_to_end/servers.h"

namespace dingle {
namespace {

Ran torture(std::vector<std::string> arguments) {
  arguments.insert(arguments.begin(), std::string(DINGLE_BINARIES) + "/dingle_torture");
  return run_program(arguments);
}

TEST(Torture, TwelveFaults) {
  if (!PostgresServer::installed()) GTEST_SKIP() << "PostgreSQL is not installed";
  if (std::getenv("DINGLE_DAEMON")) GTEST_SKIP() << "faults cannot be loaded before a sanitizer";
  const Ran ran = torture({"--rounds", "12", "--seed", "3"});
  EXPECT_EQ(ran.status, 0) << ran.out << ran.err;
  EXPECT_TRUE(ran.out.ends_with("0 lost, 0 doubled, 0 out of order\n")) << ran.out;
}

TEST(Torture, PowerFailures) {
  const Ran ran = torture({"--rounds", "15", "--only", "power"});
  EXPECT_EQ(ran.status, 0) << ran.out << ran.err;
}

TEST(Torture, StepsWithMemory) {
  for (const char* only : {"memories", "damaged-memories"}) {
    const Ran ran = torture({"--rounds", "10", "--only", only});
    EXPECT_EQ(ran.status, 0) << ran.out << ran.err;
  }
}

TEST(Torture, ChangesOfTheConfiguration) {
  const Ran ran = torture({"--rounds", "30", "--only", "reloads"});
  EXPECT_EQ(ran.status, 0) << ran.out << ran.err;
}

TEST(Torture, AnUnknownFaultIsRefused) { EXPECT_NE(torture({"--only", "lightning"}).status, 0); }

}  // namespace
}  // namespace dingle
