// Sending dead letters again. A letter is consumed by the very append that puts its event into the spool
// again: the record carries the letter's id as state, and once the record is durable the letter goes, then
// the state. After a crash in between, the start finds the state and removes the letter.
#include <algorithm>
#include <thread>

#include "agent/engine/concealed.h"
#include "agent/engine/engine.h"
#include "agent/sealing.h"
#include "spool/events.h"
#include "store/sqlite.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

const std::string kPrefix = "letter/";
constexpr std::size_t kAtOnce = 1000;

std::string key_of(const Letter& letter) { return kPrefix + std::to_string(letter.id); }

// Where the letter's line came from, which may have another name by now; nullptr if that is gone.
const SourceSettings* source_of(const Letter& letter, const Configuration& configuration) {
  const SourceSettings* renamed = nullptr;
  for (const SourceSettings& s : configuration.sources) {
    if (s.name == letter.source) return &s;
    if (s.was == letter.source) renamed = &s;
  }
  return renamed;
}

// The letter's line as its source gave it.
SourceBatch line_of(const Letter& letter, const SpooledEvent& e, const SourceSettings& source) {
  SourceBatch batch;
  batch.source = source.name;
  auto resource = std::make_shared<Resource>();
  resource->zone = source.zone;
  for (const Field& f : e.resource) resource->add(field_name(f.name), f.value.to_string());
  batch.slices = {{e.stream, resource}};
  auto buffer = std::make_shared<LineBuffer>(e.body.size());
  std::copy(e.body.begin(), e.body.end(), buffer->bytes.get());
  buffer->finish(e.body.size());
  batch.lines.push_back({{buffer->bytes.get(), e.body.size()}, e.position});
  batch.buffer = buffer;
  batch.observed = e.observed;
  batch.only_pipeline = e.pipeline_id;
  batch.only_branch = e.branch;
  batch.only_destination = letter.destination;
  return batch;
}

}  // namespace

std::optional<Work::Again> Engine::Running::again(const SourceBatch& batch) const {
  if (batch.only_pipeline == 0) return std::nullopt;
  Work::Again again;
  again.node = SIZE_MAX;
  for (const std::size_t node : configuration->flow.reached_from(batch.source))
    if (pipeline_ids[configuration->flow.nodes[node].number] == batch.only_pipeline) again.node = node;
  again.branch = batch.only_branch;
  again.destination = static_cast<std::size_t>(
      std::find(destination_ids.begin(), destination_ids.end(), batch.only_destination) -
      destination_ids.begin());
  return again;
}

std::optional<std::size_t> Engine::Running::node_of(std::uint32_t pipeline) const {
  for (std::size_t n = 0; n < configuration->flow.nodes.size(); ++n)
    if (pipeline_ids[configuration->flow.nodes[n].number] == pipeline) return n;
  return std::nullopt;
}

std::shared_ptr<const Sealing> Engine::holder() const {
  const std::string key = running()->configuration->server.section("held").text("key");
  return key.empty() ? nullptr : sealing_with(key);
}

// Removes letters whose events are in the spool again; their ids.
std::vector<std::int64_t> Engine::forget_resent() {
  LetterChoice resent;
  Changes changes;
  for (const auto& [key, value] : spool_->state_with_prefix(kPrefix)) {
    resent.ids.push_back(std::strtoll(key.c_str() + kPrefix.size(), nullptr, 10));
    changes.state.push_back({key, "", true});
  }
  if (resent.ids.empty()) return {};
  try {
    letters_->remove(resent);
  } catch (const SqliteError& error) {  // the spool still knows of them
    problems_.set("dead letters: resent",
                  std::string("those that were resent cannot be removed: ") + error.what());
    return {};
  }
  problems_.clear("dead letters: resent");
  spool_->note(std::move(changes));
  return resent.ids;
}

// Puts one letter's event into the spool, by the configuration that runs now. What is in the way, or "".
std::string Engine::resend_one(const Letter& letter, const StateChange& consumed, bool through_pipeline) {
  const std::string its = " of letter " + std::to_string(letter.id);
  EventDecoder decoder;
  std::vector<SpooledEvent> events;
  Lock swapping(swapping_);
  const std::shared_ptr<const Running> running = this->running();
  const auto& ids = running->destination_ids;
  if (std::find(ids.begin(), ids.end(), letter.destination) == ids.end())
    return "the destination" + its + " is gone; discard it";
  const auto record = opened_record(letter, running->configuration->server.section("held").text("key"));
  if (!record) return record.problem().message;
  if (!decoder.decode(*record, letter.destination, events) || events.size() != 1)
    return "letter " + std::to_string(letter.id) + " cannot be read; discard it";
  if (!through_pipeline) {
    Spool::Append append;
    append.changes.state.push_back(consumed);
    count(append.changes, running->counters->bytes_in(letter.destination), events[0].bytes);
    append.destinations = {{letter.destination, 1}};
    append.events = *record;
    const int error = spool_->append(append);
    return error == 0 ? "" : std::string("cannot write the spool: ") + std::strerror(error);
  }
  if (events[0].source.empty())
    return "the event" + its + " was made by a step of many others: it can only be sent as it was";
  swapping.unlock();  // its batch takes the configuration with it, and may have to wait for room
  const SourceSettings* source = source_of(letter, *running->configuration);
  if (source == nullptr) return "the source" + its + " is gone";
  SourceBatch batch = line_of(letter, events[0], *source);
  if (running->again(batch)->node == SIZE_MAX)
    return "the pipeline" + its + " is gone, or takes nothing from its source now";
  batch.changes.state.push_back(consumed);
  return submit(std::move(batch)) ? "" : "the program stops, or is configured anew";
}

Engine::Resent Engine::resend(LetterChoice choice, bool through_pipeline, const Resending& guide) {
  Lock resending(resending_);
  Resent done;
  // What was on its way when the last one ended, and came through after all.
  done.letters = forget_resent().size();
  // Those that come back meanwhile wait for the next time.
  if (choice.until == 0) choice.until = letters_->extent(choice).last;
  const auto ends = [&] { return ending_ || (guide.ends && guide.ends()); };
  while (done.problem.empty()) {
    const std::vector<Letter> letters = letters_->list(choice, kAtOnce, true);
    if (letters.empty()) return done.complete = true, done;
    std::vector<std::string> keys;
    const std::shared_ptr<const Running> running = this->running();
    for (const Letter& letter : letters) {
      if (ends()) break;
      const StateChange consumed{key_of(letter), "1", false};
      done.problem = resend_one(letter, consumed, through_pipeline);
      if (!done.problem.empty()) break;
      keys.push_back(consumed.key);
      choice.after = std::max(choice.after, letter.id);
    }
    if (keys.empty()) break;
    auto there = [&](const std::string& key) { return spool_->state(key).has_value(); };
    // What is on its way is waited for, however long a full queue keeps it; what the configuration before took on its way out
    // may come to nothing.
    for (int after_change = 0; !ending_ && !std::all_of(keys.begin(), keys.end(), there);) {
      std::this_thread::sleep_for(10ms);
      if (this->running() != running && ++after_change > 1000) break;
    }
    bool durable = false;
    for (int i = 0; i < 300 && !durable && !ending_; ++i) durable = spool_->wait_durable(100ms);
    if (!durable) {
      done.problem =
          "the spool could not be made durable in time; what was resent is removed at the next start";
      break;
    }
    const auto taken = static_cast<std::uint64_t>(std::count_if(keys.begin(), keys.end(), there));
    if (taken < keys.size()) {
      if (done.problem.empty())
        done.problem = "the configuration was changed meanwhile; the other letters are still there";
      choice.after = letters.front().id - 1;
    }
    done.letters += taken;
    // Noted before they are forgotten: after a crash in between they are counted here, else by `resent_at_start`.
    if (guide.reached) guide.reached(done.letters, choice.after);
    forget_resent();
  }
  if (ending_) done.problem = "the program is stopping";
  return done;
}

}  // namespace dingle
