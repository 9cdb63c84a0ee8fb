// Events that are to blame themselves, at the head of a queue.
#include <algorithm>
#include <set>

#include "store/index_file.h"
#include "tests/agent/delivery_fixture.h"

namespace dingle {
namespace {

// An event that the service always answers with 500, alone at the head of the queue.
class PoisonTest : public DeliveryThreadTest {
 protected:
  bool up = true;
  static bool has(std::span<const DeliveryEvent> events, const char* body) {
    return std::any_of(events.begin(), events.end(), [&](const auto& e) { return e.event.body == body; });
  }
  Scripted::Answer answer() {
    return [this](std::span<const DeliveryEvent> events) {
      Delivery d = all(Outcome::Form::retry, "500: cannot");
      d.separable = true;
      return up && !has(events, "bad") ? Delivery{} : d;
    };
  }
  void SetUp() override {
    DeliveryThreadTest::SetUp();
    give_up_after("10ms", "1");
    append({"bad"});
  }
  void expect(const Bodies& taken) {
    run_until_done(answer());
    EXPECT_EQ(accepted, taken);
    ASSERT_EQ(letters->list({}, 10).size(), 1u);
    EXPECT_EQ(letters->list({}, 10)[0].reason, "500: cannot");
    EXPECT_EQ(spool->counter(counter_of_destination(id, "set_aside")), 1);
  }
};
TEST_F(PoisonTest, IsSetAsideSinceEventsOfOtherLanesAreTaken) {
  append({"next"});
  for (std::uint64_t stream = 2; lane_of(stream) == lane_of(1) || stream == 2; ++stream)
    append_bodies(*spool, id, {"other " + std::to_string(stream)}, stream);
  std::uint64_t other = 2;
  while (lane_of(other) == lane_of(1)) ++other;
  append_bodies(*spool, id, {"of another lane"}, other);
  append({"last"});
  run_until_done(answer());
  EXPECT_EQ(letters->count(id), 1u);
  EXPECT_EQ(std::count(accepted.begin(), accepted.end(), "of another lane"), 1)
      << "not sent again in its turn";
  EXPECT_LT(std::find(accepted.begin(), accepted.end(), "next"),
            std::find(accepted.begin(), accepted.end(), "last"));
  EXPECT_EQ(std::set<std::string>(accepted.begin(), accepted.end()).size(), accepted.size());
  EXPECT_EQ(delivered, accepted.size()) << "also what was taken in the trial";
}
TEST_F(PoisonTest, IsSetAsideSinceTheNextOfItsOwnLaneIsTaken) {
  append({"next"});
  append({"last"});
  expect({"next", "last"});
}
TEST_F(PoisonTest, NothingIsSetAsideWhileNothingIsTaken) {
  append({"next"});
  up = false;
  {
    DeliveryThread thread(settings, id, std::make_unique<Scripted>(answer(), accepted, mutex), *spool,
                          *letters, problems);
    std::this_thread::sleep_for(150ms);
  }
  EXPECT_EQ(letters->count(id), 0u) << "its letter was withdrawn";
  EXPECT_EQ(spool->waiting(id).events, 2u);
  EXPECT_EQ(accepted, Bodies{});
  up = true;
  expect({"next"});
}
TEST_F(PoisonTest, ManyAtTheHeadCostNoOther) {
  give_up_after("10ms", "100");
  append({"bad", "bad", "bad", "bad", "bad", "bad", "good", "bad"});
  append({"last"});
  run_until_done(answer());
  EXPECT_EQ(accepted, (Bodies{"good", "last"}));
  EXPECT_EQ(letters->count(id), 8u);
}

}  // namespace
}  // namespace dingle
