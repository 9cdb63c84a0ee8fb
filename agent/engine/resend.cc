// Sending dead letters again. A letter is consumed by the very append that puts its event into the spool
// again: the record carries the letter's id as state, and once the record is durable the letter goes, then
// the state. After a crash in between, the start finds the state and removes the letter.
#include <algorithm>
#include <thread>

#include "agent/engine/engine.h"
#include "spool/events.h"

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
  batch.stream = e.stream;
  auto resource = std::make_shared<Resource>();
  resource->zone = source.zone;
  for (const Field& f : e.resource) resource->add(field_name(f.name), f.value.to_string());
  batch.resource = resource;
  auto buffer = std::make_shared<LineBuffer>(e.body.size());
  std::copy(e.body.begin(), e.body.end(), buffer->bytes.get());
  buffer->finish(e.body.size());
  batch.lines.push_back({{buffer->bytes.get(), e.body.size()}, e.position});
  batch.buffer = buffer;
  batch.observed = e.observed;
  batch.only_pipeline = e.pipeline_id;
  batch.only_destination = letter.destination;
  return batch;
}

}  // namespace

// Removes letters whose events are in the spool again.
void Engine::forget_resent() {
  LetterChoice resent;
  Changes changes;
  for (const auto& [key, value] : spool_->state_with_prefix(kPrefix)) {
    resent.ids.push_back(std::strtoll(key.c_str() + kPrefix.size(), nullptr, 10));
    changes.state.push_back({key, "", true});
  }
  if (resent.ids.empty()) return;
  letters_->remove(resent);
  spool_->note(std::move(changes));
}

Engine::Resent Engine::resend(LetterChoice choice, bool through_pipeline) {
  std::lock_guard reloading(reloading_);
  if (!committer_.joinable()) return {0, "the program is stopping"};
  Resent done;
  // Those that come back meanwhile wait for the next time.
  std::int64_t newest = 0;
  for (const auto& sum : letters_->by_reason(choice)) done.letters += sum.letters;
  std::uint64_t left = std::exchange(done.letters, 0);
  while (left > 0) {
    std::vector<Letter> letters = letters_->list(choice, std::min<std::uint64_t>(left, kAtOnce), true);
    if (letters.empty()) break;
    std::vector<std::string> keys;
    for (const Letter& letter : letters) {
      newest = std::max(newest, letter.id);
      const auto& ids = running_->destination_ids;
      EventDecoder decoder;
      std::vector<SpooledEvent> events;
      if (std::none_of(ids.begin(), ids.end(),
                       [&](const auto& d) { return d.second == letter.destination; })) {
        done.problem = "the destination of letter " + std::to_string(letter.id) + " is gone; discard it";
        break;
      }
      if (!decoder.decode(letter.record, letter.destination, events) || events.size() != 1) {
        done.problem = "letter " + std::to_string(letter.id) + " cannot be read; discard it";
        break;
      }
      const StateChange consumed{key_of(letter), "1", false};
      if (through_pipeline) {
        const auto& pipelines = running_->pipeline_ids;
        const SourceSettings* source = source_of(letter, *running_->configuration);
        if (std::find(pipelines.begin(), pipelines.end(), events[0].pipeline_id) == pipelines.end() ||
            source == nullptr || !running_->pipelines_of.count(source->name)) {
          done.problem = "the pipeline or source of letter " + std::to_string(letter.id) + " is gone";
          break;
        }
        SourceBatch batch = line_of(letter, events[0], *source);
        batch.changes.state.push_back(consumed);
        if (!submit(std::move(batch))) {
          done.problem = "the program is stopping";
          break;
        }
      } else {
        Spool::Append append;
        append.changes.state.push_back(consumed);
        append.destinations = {{letter.destination, 1}};
        append.events = letter.record;
        if (const int error = spool_->append(append)) {
          done.problem = std::string("cannot write the spool: ") + std::strerror(error);
          break;
        }
      }
      keys.push_back(consumed.key);
    }
    for (int i = 0;
         i < 1000 && !std::all_of(keys.begin(), keys.end(),
                                  [&](const std::string& k) { return spool_->state(k).has_value(); });
         ++i)
      std::this_thread::sleep_for(10ms);
    if (!spool_->wait_durable(30s)) {
      done.problem =
          "the spool could not be made durable in time; what was resent is removed at the next start";
      return done;
    }
    forget_resent();
    done.letters += keys.size();
    left -= std::min<std::uint64_t>(left, letters.size());
    choice.after = std::max(choice.after, newest);
    if (!done.problem.empty()) break;
  }
  return done;
}

}  // namespace dingle
