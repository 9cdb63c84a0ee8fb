// nowhere: events are thrown away, counted.
#include "agent/destinations/destination.h"

namespace dingle {
namespace {

class Nowhere final : public Destination {
 public:
  Delivery deliver(std::span<const DeliveryEvent>) override { return {}; }
};

const DestinationKind kNowhereDestination{
    {"nowhere",
     "Throws events away. They are counted and seen by `dingle watch`, but not kept in the spool. What "
     "waited for a destination that becomes `nowhere` is thrown away as well.",
     "nowhere: {}",
     {}},
    false,
    nullptr,
    [](const DestinationMaking&) -> std::unique_ptr<Destination> { return std::make_unique<Nowhere>(); }};
const DestinationRegistration nowhere_destination(kNowhereDestination);

}  // namespace
}  // namespace dingle
