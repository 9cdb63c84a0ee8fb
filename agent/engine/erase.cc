#include "agent/engine/erase.h"

#include <xxhash.h>

#include <algorithm>
#include <chrono>
#include <cstring>
#include <thread>

#include "agent/engine/concealed.h"
#include "agent/memory.h"
#include "spool/events.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

constexpr std::size_t kPage = 10'000;
constexpr std::size_t kMostPaths = 20;

// A spooled event, as conditions see it.
class SpooledReader final : public FieldReader {
 public:
  explicit SpooledReader(const SpooledEvent& event) : event_(event) {}
  Value get(FieldId field) const override { return event_.get(field); }
  bool any_text(const std::function<bool(std::string_view)>& test) const override {
    if (test(event_.body)) return true;
    for (const auto fields : {event_.fields, event_.resource})
      for (const Field& f : fields)
        if (f.value.is_textual() && test(f.value.as_text())) return true;
    return false;
  }

 private:
  const SpooledEvent& event_;
};

}  // namespace

Erase::Erase(Engine& engine, StoredChoice asked, LogNumber start, std::function<bool()> ends)
    : engine_(engine), asked_(std::move(asked)), start_(start), ends_(std::move(ends)) {}

std::uint64_t Erase::hash(std::string_view line) { return XXH3_64bits(line.data(), line.size()); }

std::string Erase::begin() {
  const auto stores = engine_.stores(asked_.destination);
  for (const auto& d : engine_.destinations())
    if (d.name == asked_.destination) destination_ = d.id;
  if (destination_ == 0 || stores.empty())
    return "the destination `" + asked_.destination + "` of the kind `index` is gone";
  store_ = stores[0];
  return wait_until_passed(engine_.spool(), destination_, ends_) ? "" : "it was stopped";
}

Erase::Went Erase::page(Does what, std::string& problem) {
  static const FieldId path_field = field_id("log.file.path");
  if (ends_()) return Went::ended;
  Query query = asked_.query(engine_);
  query.after = after_;
  Scanned scanned;
  const auto write = [&](const StoredEvent& e, std::string& to) {
    const std::uint64_t of_line = hash(e.body);
    to.assign(reinterpret_cast<const char*>(&of_line), sizeof of_line);
    for (const auto fields : {e.fields, e.more})
      for (const Field& f : fields) {
        if (f.name == path_field && !paths_.count(f.value.to_string())) {
          if (paths_.size() < kMostPaths)
            paths_.insert(f.value.to_string());
          else
            ++more_paths_;
        }
        if (f.name == names::pipeline) pipelines_.insert(f.value.to_string());
      }
  };
  auto found = find_events({store_.get()}, query, kPage, write, scanned);
  if (!scanned.problems.empty()) return problem = scanned.problems.front(), Went::ended;
  const bool last = found.size() < kPage;
  std::map<std::string, std::vector<IndexFile::Gone>> gone;
  for (const FoundEvent& f : found) {
    after_ = f.place();
    if (is_newer(f.order, start_, engine_.spool())) continue;
    std::uint64_t line = 0;
    std::memcpy(&line, f.json.data(), sizeof line);
    if (what == Does::take_out) {
      gone[f.index].push_back({f.timestamp, f.order});
      continue;
    }
    ++read;
    ++seen[f.index];
    from_elsewhere_ = from_elsewhere_ || f.order.spool != engine_.spool().identity().spool_id;
    if (asked_lines_.count(line) != 0) lines_.insert(line);
  }
  for (const auto& [index, events] : gone) {
    const auto removed = store_->take_out(index, events);
    if (!removed) return problem = removed.problem().message, Went::ended;
    erased += *removed;
    by_index[index] += *removed;
    engine_.spool().count(counter_of_destination(destination_, "erased_events"),
                          static_cast<std::int64_t>(*removed));
  }
  if (last) after_.reset();  // the next time from the beginning
  return last ? Went::to_end : Went::on;
}

bool Erase::scrub(std::string& problem) {
  for (int i = 0; i < 6; ++i) {  // each time it waits for readers
    if (ends_()) return false;
    if (store_->scrub()) return true;
  }
  problem =
      "the files of the index are read or full all the time, and cannot be tidied up: what was taken out may "
      "stand there still";
  return false;
}

// Whatever destination they are of.
std::string Erase::letters() {
  const Query query = asked_.query(engine_);
  const std::string key = engine_.configuration()->server.section("held").text("key");
  LetterChoice choice;
  for (;;) {
    const std::vector<Letter> some = engine_.letters().list(choice, 1000, true);
    if (some.empty()) break;
    LetterChoice gone;
    for (const Letter& letter : some) {
      choice.after = std::max(choice.after, letter.id);
      const auto record = opened_record(letter, key);
      EventDecoder decoder;
      std::vector<SpooledEvent> events;
      if (!record || !decoder.decode(*record, letter.destination, events) || events.size() != 1) continue;
      if (query.in_time(events[0].timestamp) && query.where.holds(SpooledReader(events[0])))
        gone.ids.push_back(letter.id);
    }
    if (gone.ids.empty()) continue;
    letters_removed += asked_.dry ? gone.ids.size() : engine_.letters().remove(gone);
  }
  return asked_.dry || engine_.letters().scrub()
             ? ""
             : "the file of the letters is being read, and cannot be tidied up";
}

bool Erase::renew_spool(std::string& problem, const std::function<void()>& waits) {
  Spool& spool = engine_.spool();
  std::uint64_t renewal = 0;
  if (const int error = spool.renew(renewal); error != 0) {
    problem = std::string("the spool cannot begin a segment: ") + std::strerror(error);
    return false;
  }
  const std::uint64_t before = spool.last_record();
  auto told = std::chrono::steady_clock::now();
  const bool renewed = wait_until(
      [&] {
        if (spool.is_renewed(renewal)) return true;
        if (std::chrono::steady_clock::now() - told > 1s) {
          told = std::chrono::steady_clock::now();
          waits_for.clear();
          for (const auto& d : engine_.destinations())
            if (!spool.has_passed(d.id, before)) waits_for = d.name;
          waits();
        }
        return false;
      },
      ends_);
  waits_for.clear();
  return renewed;
}

void Erase::forget_samples() {
  engine_.unmatched_.forget();
  engine_.leftovers_.forget();
  engine_.newest_lines_.forget();
  store_->forget_caches();
  engine_.spool().forget_buffers();
  give_back_memory();
}

std::vector<std::string> Erase::left() const {
  std::vector<std::string> left;
  const auto flowing = engine_.flowing();
  const Configuration& c = *flowing.configuration;
  std::set<std::string> others;
  for (const PipelineSettings& p : c.pipelines)
    for (const Route& to : p.to)
      if (pipelines_.count(p.name) != 0 && to.destination != asked_.destination)
        others.insert(to.destination);
  for (const std::string& d : others)
    left.push_back("the destination " + d + ": the same pipelines send there");
  for (const auto& m : flowing.memories)
    if (m.size.entries != 0 && pipelines_.count(c.pipelines[m.pipeline].name) != 0)
      left.push_back("the memory of the step " + m.step + " of the pipeline " + c.pipelines[m.pipeline].name +
                     ": it may hold values of them, until it forgets them by its own rules");
  if (from_elsewhere_)
    left.push_back("spools, dead letters and memory of the agents elsewhere that sent some of them here");
  for (const std::string& path : paths_)
    left.push_back("the file " + path + ", from which they were read, and copies of it");
  if (more_paths_ != 0) left.push_back("other files from which they were read");
  for (const std::string& file : engine_.deaths_->files_set_apart())
    left.push_back("the file " + file + ", in which lines were set apart");
  left.push_back("files of the data folder that were moved aside, and backups of it");
  left.push_back(
      "memory of this process that was freed: it may hold pieces until it is used anew, or the program is "
      "restarted");
  return left;
}

}  // namespace dingle
