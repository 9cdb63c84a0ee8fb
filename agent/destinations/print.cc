// print: events as NDJSON on standard output.
#include <poll.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <climits>
#include <cstring>

#include "agent/destinations/destination.h"
#include "agent/destinations/rendering.h"

namespace dingle {
namespace {

class Print final : public Destination {
 public:
  explicit Print(const Options& o) : rendering_(o.section("events")) {}
  Delivery deliver(std::span<const DeliveryEvent> events) override {
    std::string out;
    for (const DeliveryEvent& e : events) {
      rendering_.append_json(e.event, out);
      out += '\n';
    }
    for (std::string_view rest = out; !rest.empty();) {
      // A reader that does not read is waited for, but not for ever: a stop must not wait with it.
      pollfd ready{STDOUT_FILENO, POLLOUT, 0};
      if (cancelled_) return Delivery::retry("the program stops");
      if (::poll(&ready, 1, 100) == 0) continue;
      const ssize_t n = ::write(STDOUT_FILENO, rest.data(), std::min<std::size_t>(rest.size(), PIPE_BUF));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) return Delivery::retry(std::string("standard output: ") + std::strerror(errno));
      rest.remove_prefix(static_cast<std::size_t>(n));
    }
    return {};
  }

  void cancel() override { cancelled_ = true; }

 private:
  Rendering rendering_;
  std::atomic<bool> cancelled_{false};
};

const DestinationKind kPrintDestination{
    {"print",
     "Writes events as JSON, one a line, to the standard output of `dingled`. At least once: after a crash "
     "the last ones may come again.",
     "print: {}",
     {rendering_option()}},
    true,
    [](const Checking& c) -> std::shared_ptr<const Namer> {
      check_rendering(c.options.section("events"), c.findings);
      return nullptr;
    },
    [](const DestinationMaking& m) -> std::unique_ptr<Destination> {
      return std::make_unique<Print>(m.settings.options);
    }};
const DestinationRegistration print_destination(kPrintDestination);

}  // namespace
}  // namespace dingle
