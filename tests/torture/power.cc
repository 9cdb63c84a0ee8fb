#include "tests/torture/power.h"

#include <fmt/format.h>

#include <chrono>
#include <filesystem>
#include <random>
#include <thread>

#include "agent/destinations/index.h"
#include "agent/engine/delivery.h"
#include "core/time/instant.h"
#include "store/search.h"
#include "tests/end_to_end/servers.h"
#include "tests/spool/faulty_disk.h"
#include "tests/torture/faulty_vfs.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

// One agent between two power failures. Its source is a counter whose checkpoint is the next number.
class Agent {
 public:
  Agent(FaultyDisk& disk, const Configuration& configuration, const std::string& data)
      : configuration_(configuration), letters_(data + "/letters.sqlite") {
    auto opened = Spool::open(disk, {.folder = "spool", .segment_size = 200'000});
    if (!opened) throw std::runtime_error(opened.problem().message);
    spool_ = std::move(*opened);
    for (const DestinationSettings& d : configuration.destinations) {
      const std::uint32_t id = spool_->destination(d.name);
      ids_.push_back(id);
      deliveries_.push_back(std::make_unique<DeliveryThread>(
          d, id, d.kind->make({d, id, spool_->identity(), data}), *spool_, letters_, problems_));
    }
  }
  ~Agent() {
    deliveries_.clear();
    spool_.reset();
  }
  long next() const {
    const auto state = spool_->state("next");
    return state ? std::stol(*state) : 0;
  }
  void append(long events) {
    long n = next();
    Batch batch;
    std::deque<std::string> texts;
    for (long i = 0; i < events; ++i) {
      Event e;
      e.body = texts.emplace_back(std::to_string(n + i));
      e.position = static_cast<std::uint64_t>(n + i);
      e.timestamp = e.observed = system_now();
      e.set(batch.arena, field_id("n"), Value::integer(n + i));
      batch.events.push_back(e);
    }
    Section section{1, "p", "c", {}, &batch};
    Spool::Append a;
    for (std::size_t i = 0; i < ids_.size(); ++i) {
      Section::To to{ids_[i], {"numbered"}, {}};
      to.name_of.assign(batch.events.size(), 0);
      section.to.push_back(std::move(to));
      a.destinations.emplace_back(ids_[i], static_cast<std::uint32_t>(events));
    }
    const Slice slice{1, "s", "UTC", {}};
    a.events = encode_events({&slice, 1}, {section}).bytes;
    a.changes.state.push_back({"next", std::to_string(n + events), false});
    spool_->append(a);
  }
  bool drained() const {
    for (std::uint32_t id : ids_)
      if (spool_->waiting(id).events != 0) return false;
    return true;
  }
  std::uint32_t id(std::size_t i) const { return ids_[i]; }

 private:
  const Configuration& configuration_;
  Letters letters_;
  Problems problems_{[](const Problems::Problem&, Problems::Said) {}};
  std::unique_ptr<Spool> spool_;
  std::vector<std::uint32_t> ids_;
  std::vector<std::unique_ptr<DeliveryThread>> deliveries_;
};

void count(const std::vector<long>& numbers, long all, long& lost, long& doubled, long& disordered) {
  std::vector<int> seen(static_cast<std::size_t>(all));
  long last = -1;
  for (const long n : numbers) {
    if (n < 0 || n >= all) {
      ++doubled;  // never written: as wrong as it gets
      continue;
    }
    doubled += seen[static_cast<std::size_t>(n)]++ != 0;
    disordered += n < last;
    last = n;
  }
  for (const int n : seen) lost += n == 0;
}

}  // namespace

PowerLosses lose_power(int rounds, unsigned seed, bool with_postgres) {
  use_faulty_vfs();
  const std::string data = make_folder();
  std::unique_ptr<PostgresServer> postgres;
  std::string text =
      "version: 1\nsources: { s: { files: { paths: [/nowhere/x] } } }\npipelines: { p: { from: [s], to: "
      "[store] } }\n"
      "destinations:\n  store: { index: { name: numbered }, retry: { first: 1ms, longest: 20ms } }\n";
  if (with_postgres) {
    postgres = std::make_unique<PostgresServer>();
    postgres->query(
        "CREATE TABLE numbered(id bigserial, time timestamptz, body text, fields jsonb, n bigint)");
    text += "  table: { postgres: { connect: '" + postgres->connect() +
            "', table: numbered, columns: { n: int } }, retry: { first: 1ms, longest: 20ms } }\n";
  }
  Findings findings(text);
  const auto configuration = read_configuration(text, findings);
  if (!configuration) throw std::runtime_error("the configuration of the test is wrong");
  PowerLosses result;
  result.rounds = rounds;
  result.with_table = with_postgres;
  std::mt19937_64 random(seed);
  FaultyDisk disk;
  for (int round = 0; round < rounds; ++round) {
    auto agent = std::make_unique<Agent>(disk, *configuration, data);
    const auto end = std::chrono::steady_clock::now() + std::chrono::milliseconds(20 + random() % 200);
    while (std::chrono::steady_clock::now() < end) {
      agent->append(static_cast<long>(1 + random() % 200));
      std::this_thread::sleep_for(std::chrono::microseconds(random() % 3000));
    }
    cut_power();
    disk.dead = true;
    agent.reset();
    disk.dead = false;
    disk.lose_power(random());
    restore_power(random());
  }
  Agent agent(disk, *configuration, data);
  for (int i = 0; i < 6000 && !agent.drained(); ++i) std::this_thread::sleep_for(10ms);
  result.events = agent.next();
  std::vector<long> numbers;
  auto store = Store::at(index_folder(data, agent.id(0)));
  Query query;
  Scanned scanned;
  const auto found = find_events({store.get()}, query, SIZE_MAX, false, scanned);
  for (auto e = found.rbegin(); e != found.rend(); ++e) numbers.push_back(Json::parse(e->json)["n"]);
  std::vector<std::pair<EventOrder, long>> ordered;
  for (std::size_t i = 0; i < found.size(); ++i)
    ordered.emplace_back(found[found.size() - 1 - i].order, numbers[i]);
  std::stable_sort(ordered.begin(), ordered.end(),
                   [](const auto& a, const auto& b) { return a.first < b.first; });
  for (std::size_t i = 0; i < ordered.size(); ++i) numbers[i] = ordered[i].second;
  count(numbers, result.events, result.index_lost, result.index_doubled, result.index_disordered);
  if (with_postgres) {
    numbers.clear();
    for (const auto& row : postgres->query("SELECT n FROM numbered ORDER BY id"))
      numbers.push_back(std::stol(row[0]));
    count(numbers, result.events, result.table_lost, result.table_doubled, result.table_disordered);
  }
  std::filesystem::remove_all(data);
  return result;
}

std::string PowerLosses::text() const {
  return fmt::format("{} power failures, {} events; index: {} lost, {} doubled, {} out of order{}", rounds,
                     events, index_lost, index_doubled, index_disordered,
                     with_table ? fmt::format("; table: {} lost, {} doubled, {} out of order", table_lost,
                                              table_doubled, table_disordered)
                                : "; table: not tried, PostgreSQL is not installed");
}

}  // namespace dingle
