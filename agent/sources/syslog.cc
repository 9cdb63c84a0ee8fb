// syslog: messages that come by UDP or TCP. An event is a message with its header; templates take that apart.
//
// Over TCP the source reads no further while the queues are full, and the senders wait. UDP cannot wait:
// messages are held in memory up to `buffer`; what does not fit is lost, counted and told.
#include <poll.h>
#include <simdjson.h>
#include <sys/socket.h>
#include <xxhash.h>

#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <cstring>
#include <deque>
#include <functional>
#include <list>
#include <mutex>
#include <set>
#include <thread>

#include "agent/guarded.h"
#include "agent/sources/message_splitter.h"
#include "agent/sources/source.h"
#include "agent/sources/syslog_open.h"
#include "agent/sources/tracked_file.h"
#include "core/time/instant.h"
#include "net/listener.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

constexpr std::size_t kLargestDatagram = 65'536;
constexpr std::size_t kReceived = LineBuffer::kUsual;
constexpr auto kTogether = 20ms;             // how long a message waits for others, to be handed in with them
constexpr auto kStopSeen = 50ms;             // how soon a stop is noticed
constexpr auto kListenAgain = 1s;            // after a failure to listen
constexpr auto kStillLosing = 5s;            // how long after the last loss it is shown as a problem
constexpr std::size_t kMostSenders = 1'000;  // whose resources are remembered

class Syslog final : public Source {
 public:
  explicit Syslog(const SourceMaking& m)
      : name_(m.settings.name),
        udp_(m.settings.options.text("udp")),
        tcp_(m.settings.options.text("tcp")),
        longest_(static_cast<std::size_t>(m.settings.options.number("longest_message"))),
        most_held_(static_cast<std::size_t>(m.settings.options.number("buffer"))),
        most_connections_(static_cast<std::size_t>(m.settings.options.number("most_connections"))),
        idle_(m.settings.options.number("idle")),
        resource_(m.settings.resource),
        zone_(m.settings.zone),
        intake_(m.intake),
        counters_(m.intake.spool(), m.settings.name) {
    open_ = std::static_pointer_cast<SyslogOpen>(intake_.take_over(key()));
    if (open_) return;
    open_ = std::make_shared<SyslogOpen>();
    open_->lose = [counters = counters_](std::uint64_t messages) {
      counters.count("lost_queue_full", messages);
    };
  }
  ~Syslog() override { stop(); }

  void start() override {
    if (!udp_.empty()) {
      run(&Syslog::receive);
      run(&Syslog::hand_in_held);
    }
    if (!tcp_.empty()) run(&Syslog::serve);
  }
  void stop() override {
    stopping_ = true;
    held_changed_.notify_all();
    for (std::thread& t : threads_) t.join();
    threads_.clear();
    std::shared_ptr<SyslogOpen> open;
    {
      std::lock_guard lock(mutex_);
      open.swap(open_);
    }
    if (open && !finishing_) intake_.leave(key(), std::move(open));
  }
  void finish() override {
    finishing_ = true;
    held_changed_.notify_all();
  }
  bool finished() const override { return running_ == 0; }
  std::uint64_t open() const override { return connections_; }
  std::vector<std::string> listening() const override {
    std::lock_guard lock(mutex_);
    return {listening_.begin(), listening_.end()};
  }
  std::optional<std::uint64_t> bytes_behind() const override {
    std::lock_guard lock(mutex_);
    return open_ ? open_->held_bytes : 0;
  }

 private:
  std::string key() const { return "syslog/" + name_ + "/" + udp_ + "/" + tcp_; }
  std::string about(const char* what) const { return "source " + name_ + ": " + what; }
  void run(void (Syslog::*work)()) {
    ++running_;
    threads_.emplace_back([this, work] {
      while (!guarded(intake_.problems(), about("unforeseen"), [&] { (this->*work)(); }) && !stopping_)
        std::this_thread::sleep_for(kStopSeen);
      --running_;
    });
  }

  // Listens, or says why not, and tries again later. True when the socket is there.
  bool ensure(Socket& socket, const std::string& address, Transport transport) {
    const char* what = transport == Transport::udp ? "udp" : "tcp";
    while (!socket.is_open()) {
      auto opened = listen_on(address, transport);
      if (opened) {
        socket = std::move(*opened);
        break;
      }
      intake_.problems().set(about(what), opened.problem().message);
      for (const auto again = Steady::now() + kListenAgain; Steady::now() < again;) {
        if (stopping_ || finishing_) return false;
        std::this_thread::sleep_for(kStopSeen);
      }
    }
    intake_.problems().clear(about(what));
    std::lock_guard lock(mutex_);
    listening_.insert(what + (" " + local_address(socket.fd())));
    return true;
  }

  std::shared_ptr<const Resource> resource_of(const std::string& sender, const char* transport) const {
    auto resource = std::make_shared<Resource>();
    resource->zone = zone_;
    for (const auto& [field, text] : resource_) resource->add(field, text);
    resource->add("network.peer.address", sender);
    resource->add("network.transport", transport);
    return resource;
  }

  SourceBatch batch_of(std::uint64_t stream, std::shared_ptr<const Resource> resource,
                       std::shared_ptr<LineBuffer> buffer, Messages messages, std::uint64_t bytes) const {
    SourceBatch batch;
    batch.source = name_;
    batch.slices = {{stream, std::move(resource)}};
    batch.observed = system_now();
    batch.bytes = bytes;
    batch.lines = std::move(messages.events);
    std::uint64_t invalid = 0;
    if (!simdjson::validate_utf8(buffer->bytes.get(), buffer->size))
      for (const SourceLine& line : batch.lines)
        invalid += !simdjson::validate_utf8(line.text.data(), line.text.size());
    batch.buffer = std::move(buffer);
    auto add = [&](const char* what, std::uint64_t n) { counters_.add(batch.changes, what, n); };
    add("lines", messages.messages);
    add("empty", messages.empty);
    add("events", batch.lines.size());
    add("cut", messages.cut);
    add("cut_bytes", messages.cut_bytes);
    add("invalid_utf8", invalid);
    return batch;
  }

  // ---- UDP ----

  struct Sender {
    std::shared_ptr<const Resource> resource;
    std::uint64_t stream = 0;
    // What came since it was last handed on: a message after the other, and where each ends.
    std::string bytes;
    std::vector<std::size_t> ends;
    std::vector<std::uint64_t> numbers;
    std::uint64_t cut_bytes = 0, cut = 0;
  };

  void receive() {
    if (ensure(open_->udp, udp_, Transport::udp)) receive_all();
    received_all_ = true;
    held_changed_.notify_all();
  }
  void receive_all() {
    const int fd = open_->udp.fd();
    std::vector<char> room(kLargestDatagram);
    std::map<std::string, Sender> senders;
    std::size_t gathered = 0;
    Steady::time_point since{}, lost_at{};
    while (!stopping_) {
      const bool last = finishing_;
      pollfd waited{fd, POLLIN, 0};
      const auto most =
          gathered ? std::min<Steady::duration>(kStopSeen, since + kTogether - Steady::now()) : kStopSeen;
      const int wait = static_cast<int>(std::chrono::ceil<std::chrono::milliseconds>(most).count());
      ::poll(&waited, 1, last ? 0 : std::max(0, wait));
      bool empty = false;
      while (!empty && gathered < kReceived) {
        sockaddr_storage from{};
        socklen_t size = sizeof from;
        const ssize_t n =
            ::recvfrom(fd, room.data(), room.size(), MSG_DONTWAIT, reinterpret_cast<sockaddr*>(&from), &size);
        if (n < 0) {
          empty = errno != EINTR && errno != ECONNREFUSED;
          continue;
        }
        if (gathered == 0) since = Steady::now();
        gathered += static_cast<std::size_t>(n) + 1;
        take(senders, address_text(&from, false), {room.data(), static_cast<std::size_t>(n)});
      }
      const bool done = last && empty;
      if (gathered != 0 && (done || gathered >= kReceived || Steady::now() - since >= kTogether)) {
        if (hold(senders)) lost_at = Steady::now();
        gathered = 0;
      }
      if (const std::uint32_t dropped = datagrams_dropped(fd); dropped != open_->dropped) {
        counters_.count("lost_too_fast", dropped - open_->dropped);
        open_->dropped = dropped;
        lost_at = Steady::now();
      }
      if (lost_at != Steady::time_point()) {
        const bool still = Steady::now() - lost_at < kStillLosing;
        if (still)
          intake_.problems().set(about("udp"), kLosing);
        else
          intake_.problems().clear(about("udp")), lost_at = {};
      }
      if (done) break;
    }
    if (gathered != 0) hold(senders);
  }

  void take(std::map<std::string, Sender>& senders, const std::string& from, std::string_view message) {
    auto found = senders.find(from);
    if (found == senders.end()) {
      if (senders.size() >= kMostSenders)
        std::erase_if(senders, [](const auto& s) { return s.second.ends.empty(); });
      found = senders.try_emplace(from).first;
      found->second.resource = resource_of(from, "udp");
      found->second.stream = XXH3_64bits_withSeed(from.data(), from.size(), open_->streams);
    }
    Sender& sender = found->second;
    while (!message.empty() && (message.back() == '\n' || message.back() == '\r' || message.back() == '\0'))
      message.remove_suffix(1);
    if (message.size() > longest_) {
      ++sender.cut;
      sender.cut_bytes += message.size() - longest_;
      message = message.substr(0, longest_);
    }
    sender.bytes += message;
    sender.ends.push_back(sender.bytes.size());
    sender.numbers.push_back(open_->received++);
  }

  // Puts what was gathered with what waits. True when there was no room for some of it.
  bool hold(std::map<std::string, Sender>& senders) {
    std::uint64_t lost = 0;
    for (auto& [from, sender] : senders) {
      if (sender.ends.empty()) continue;
      Messages messages;
      messages.messages = sender.ends.size();
      messages.cut = sender.cut;
      messages.cut_bytes = sender.cut_bytes;
      auto buffer = std::make_shared<LineBuffer>(std::max<std::size_t>(1, sender.bytes.size()));
      std::copy(sender.bytes.begin(), sender.bytes.end(), buffer->bytes.get());
      buffer->finish(sender.bytes.size());
      for (std::size_t i = 0, at = 0; i < sender.ends.size(); at = sender.ends[i++])
        if (sender.ends[i] != at)
          messages.events.push_back({{buffer->bytes.get() + at, sender.ends[i] - at}, sender.numbers[i]});
        else
          ++messages.empty;
      const std::size_t size =
          sizeof(SourceBatch) + buffer->size + messages.events.size() * sizeof(SourceLine) + 512;
      SourceBatch batch = batch_of(sender.stream, sender.resource, std::move(buffer), std::move(messages),
                                   sender.bytes.size());
      {
        std::lock_guard lock(mutex_);
        if (open_->held_bytes + size <= most_held_) {
          open_->held_bytes += size;
          open_->held.push_back({size, std::move(batch)});
        } else {
          lost += sender.ends.size();
        }
      }
      sender = {sender.resource, sender.stream};
    }
    held_changed_.notify_all();
    counters_.count("lost_queue_full", lost);
    return lost != 0;
  }

  void hand_in_held() {
    std::unique_lock lock(mutex_);
    while (!stopping_) {
      if (open_->held.empty()) {
        if (received_all_) return;
        held_changed_.wait_for(lock, kStopSeen);
        continue;
      }
      SyslogOpen::Held held = std::move(open_->held.front());
      open_->held.pop_front();
      lock.unlock();
      const bool taken = intake_.submit(held.batch);
      lock.lock();
      if (taken)
        open_->held_bytes -= held.bytes;
      else
        open_->held.push_front(std::move(held));
      if (!taken) return;
    }
  }

  // ---- TCP ----

  void serve() {
    if (!ensure(open_->tcp, tcp_, Transport::tcp)) return;
    while (!stopping_) {
      const bool last = finishing_;
      std::vector<pollfd> waited{{open_->tcp.fd(), POLLIN, 0}};
      const bool full = open_->connections.size() >= most_connections_;
      const auto quietest = full ? quiet_connection() : open_->connections.end();
      if (full && quietest == open_->connections.end()) waited[0].events = 0;
      for (const SyslogConnection& c : open_->connections) waited.push_back({c.socket.fd(), POLLIN, 0});
      ::poll(waited.data(), waited.size(), last ? 0 : static_cast<int>(kStopSeen.count()));
      bool any = false;
      auto c = open_->connections.begin();
      for (std::size_t i = 1; i < waited.size(); ++i) {
        if (waited[i].revents != 0) {
          if (!read(*c)) return;
          any = true;
        }
        c = c->ended ? open_->connections.erase(c) : std::next(c);
      }
      if (waited[0].revents != 0 && !last) {
        if (full) make_room();
        accept_all();
      }
      tell_full();
      connections_ = open_->connections.size();
      if (last && !any) break;
    }
    if (!finishing_) return;
    for (SyslogConnection& c : open_->connections) {
      c.ended = true;
      if (!hand_in(c)) break;
    }
    open_->connections.clear();
  }

  // The connection that was quiet for longest, if that is long enough to make room for another one; else the end.
  std::list<SyslogConnection>::iterator quiet_connection() {
    auto& all = open_->connections;
    const auto quietest = std::min_element(all.begin(), all.end(),
                                           [](const auto& a, const auto& b) { return a.heard < b.heard; });
    const bool quiet = quietest != all.end() && quietest->pending.empty() &&
                       std::chrono::steady_clock::now() - quietest->heard >= idle_;
    return quiet ? quietest : all.end();
  }
  void make_room() {
    const auto quietest = quiet_connection();  // it may have sent something meanwhile
    if (quietest == open_->connections.end() || open_->connections.size() < most_connections_) return;
    open_->connections.erase(quietest);
    counters_.count("closed_idle");
  }
  void tell_full() {
    const std::string about = "source " + name_ + ": connections";
    if (open_->connections.size() < most_connections_)
      intake_.problems().clear(about);
    else
      intake_.problems().set(
          about, std::to_string(most_connections_) +
                     " connections are open, which is `most_connections`; a new one waits until one is "
                     "closed, or has been quiet for as long as `idle` says");
  }

  void accept_all() {
    while (open_->connections.size() < most_connections_) {
      sockaddr_storage from{};
      socklen_t size = sizeof from;
      Socket socket(::accept4(open_->tcp.fd(), reinterpret_cast<sockaddr*>(&from), &size,
                              SOCK_CLOEXEC | SOCK_NONBLOCK));
      if (!socket.is_open()) return;
      const int on = 1;
      ::setsockopt(socket.fd(), SOL_SOCKET, SO_KEEPALIVE, &on, sizeof on);
      SyslogConnection& c = open_->connections.emplace_back();
      c.socket = std::move(socket);
      c.sender = address_text(&from, false);
    }
  }

  // False when the engine takes no more; what was read then waits for the next time.
  bool read(SyslogConnection& c) {
    while (c.pending.size() < kReceived + longest_ && !c.ended) {  // a whole message, at least
      const std::size_t had = c.pending.size();
      c.pending.resize(had + kReceived / 4);
      const ssize_t n = ::recv(c.socket.fd(), c.pending.data() + had, kReceived / 4, MSG_DONTWAIT);
      c.pending.resize(had + static_cast<std::size_t>(std::max<ssize_t>(0, n)));
      if (n > 0) c.heard = std::chrono::steady_clock::now();
      if (n < 0 && errno == EINTR) continue;
      if (n < 0 && (errno == EAGAIN || errno == EWOULDBLOCK)) break;
      c.ended = n <= 0;
    }
    return hand_in(c);
  }

  bool hand_in(SyslogConnection& c) {
    MessagePart part = c.part;
    auto buffer = std::make_shared<LineBuffer>(std::max<std::size_t>(1, c.pending.size()));
    std::copy(c.pending.begin(), c.pending.end(), buffer->bytes.get());
    buffer->finish(c.pending.size());
    Messages messages = take_messages({buffer->bytes.get(), buffer->size}, longest_, c.ended, part);
    const std::size_t consumed = messages.consumed;
    for (SourceLine& line : messages.events) line.position += c.position;
    if (!c.resource) c.resource = resource_of(c.sender, "tcp");
    if (consumed != 0 &&
        !intake_.submit(batch_of(c.stream, c.resource, std::move(buffer), std::move(messages), consumed))) {
      c.ended = false;  // it is read again, and ends again
      return false;
    }
    c.pending.erase(0, consumed);
    c.position += consumed;
    c.part = part;
    return true;
  }

  static constexpr const char* kLosing =
      "messages are being lost: they come by UDP, faster than they can be queued";
  const std::string name_, udp_, tcp_;
  const std::size_t longest_, most_held_, most_connections_;
  const std::chrono::nanoseconds idle_;
  const std::vector<std::pair<std::string, std::string>> resource_;
  const Zone zone_;
  Intake& intake_;
  const SourceCounters counters_;
  std::shared_ptr<SyslogOpen> open_;
  mutable std::mutex mutex_;                         // guards what is held of `open_`, and `listening_`
  std::set<std::string, std::greater<>> listening_;  // UDP first
  std::condition_variable held_changed_;
  std::atomic<std::uint64_t> connections_{0};
  std::atomic<bool> stopping_{false}, finishing_{false}, received_all_{false};
  std::atomic<unsigned> running_{0};  // threads
  std::vector<std::thread> threads_;
};

std::shared_ptr<const Prepared> prepare_syslog(const Checking& c) {
  for (const char* name : {"udp", "tcp"})
    if (const std::string& address = c.options.text(name); c.options.given(name) && !address.empty())
      if (const std::string problem = address_problem(address); !problem.empty())
        c.findings.error(c.options.where(name), problem, "for instance 127.0.0.1:5514, or [::1]:5514");
  if (!c.options.given("udp") && !c.options.given("tcp"))
    c.findings.error(c.options.place(), 6, "`syslog` needs an address to listen on",
                     "add udp: 127.0.0.1:5514, or tcp: 127.0.0.1:5514, or both");
  return nullptr;
}

const SourceKind kSyslogSource{
    {"syslog",
     "Takes syslog messages (RFC 5424, RFC 3164) by UDP (RFC 5426) and TCP (RFC 6587). An event's body is "
     "the "
     "message as it came, with its header, which `{:syslog}` takes apart; a pipeline's `where` and `unless` "
     "may name its fields "
     "before that. `network.peer.address` is who sent it. While the queues are full, "
     "TCP senders wait; what comes by UDP is held in memory, and lost beyond `buffer`, counted.",
     "syslog: { udp: 127.0.0.1:5514, tcp: 127.0.0.1:5514 }",
     {{.name = "udp",
       .type = OptionType::text,
       .text = "Address and port for UDP. Port 0 takes a free one, which `dingle status` names."},
      {.name = "tcp", .type = OptionType::text, .text = "Address and port for TCP."},
      {.name = "longest_message",
       .type = OptionType::size,
       .fallback = "64KiB",
       .text = "Longer messages are cut there; what is cut off is counted.",
       .least = 480},
      {.name = "buffer",
       .type = OptionType::size,
       .fallback = "4MiB",
       .text = "Memory for what came by UDP and cannot be queued yet.",
       .least = 64 << 10},
      {.name = "most_connections",
       .type = OptionType::integer,
       .fallback = "500",
       .text = "How many TCP connections are open at once; others wait to be accepted.",
       .least = 1},
      {.name = "idle",
       .type = OptionType::duration,
       .fallback = "1m",
       .text = "While `most_connections` are open, the one that was quiet for longest, and for so long at "
               "least, is "
               "closed when another one waits. It is counted."}}},
    prepare_syslog,
    [](const SourceMaking& m) -> std::unique_ptr<Source> { return std::make_unique<Syslog>(m); },
    {"network.peer.address", "network.transport"},
    "syslog"};
const SourceRegistration syslog_source(kSyslogSource);

}  // namespace
}  // namespace dingle
