#include "agent/memory.h"

#include <gtest/gtest.h>

#include <fstream>

#include "core/event.h"

namespace dingle {
namespace {

long resident_pages() {
  std::ifstream in("/proc/self/statm");
  long all = 0, resident = 0;
  in >> all >> resident;
  return resident;
}

TEST(Memory, IsGivenBackAndComesBackWhenItIsNeeded) {
  { LineBuffer kept(LineBuffer::kUsual); }
  const long before = resident_pages();
  give_back_memory();
  EXPECT_LT(resident_pages(), before);
  LineBuffer anew(LineBuffer::kUsual);
  anew.finish(10);
  EXPECT_EQ(anew.size, 10u);
}

}  // namespace
}  // namespace dingle
