// index: Dingle's own store. Exactly once: events and progress are committed in one transaction for each
// index.
#include "agent/destinations/index.h"

#include <map>

#include "agent/destinations/destination.h"
#include "agent/destinations/field_choice.h"
#include "agent/destinations/remote_index.h"
#include "core/time/instant.h"
#include "store/store.h"

namespace dingle {
namespace {

class Index final : public Destination {
 public:
  explicit Index(const DestinationMaking& m)
      : store_(Store::at(index_folder(m.data, m.id))),
        sender_{m.spool.spool_id, m.spool.epoch, m.spool.nonce, m.id},
        choice_(m.settings.options.section("events")) {
    const Options& keep = m.settings.options.section("keep");
    keep_age_ = keep.number("age");
    keep_bytes_ = static_cast<std::uint64_t>(keep.number("bytes"));
  }

  Delivery deliver(std::span<const DeliveryEvent> events) override {
    if (!compared_) {  // its files may be older than the spool, or the spool than its files
      const auto held = store_->held(sender_);
      if (!held) return Delivery::retry(held.problem().message);
      compared_ = true;
      Delivery first = Delivery::retry("begins");
      first.at_once = true;
      first.held = LogNumber{held->newest.epoch, held->newest.number};
      first.stored = held->stored;
      return first;
    }
    std::map<std::string_view, std::vector<StoredEvent>> by_index;
    extras_.clear();
    for (const DeliveryEvent& d : choice_.of(events)) {
      const SpooledEvent& e = d.event;
      by_index[e.name].push_back({e.timestamp,
                                  e.observed,
                                  {sender_.spool, d.number.epoch, d.number.number, e.ordinal},
                                  e.stream,
                                  e.position,
                                  e.body,
                                  e.fields,
                                  extras_of(e),
                                  e.branch,
                                  e.replaces});
    }
    for (const auto& [name, list] : by_index) {
      if (cancelled_)
        return Delivery::retry("the program stops");  // what was committed is known, and not sent again
      Store::Outcome outcome = store_->commit(index_name(name), sender_, list);
      if (outcome.form != Store::Outcome::Form::committed) return Delivery::retry(outcome.reason);
    }
    commits_ += 1;
    if (commits_ % 16 == 0) store_->merge();
    Delivery done;
    if (const auto held = store_->held(sender_)) done.stored = held->stored;
    return done;
  }

  void cancel() override { cancelled_ = true; }

  Housekeeping idle() override {
    store_->merge();
    if (std::exchange(resting_at_, commits_) == commits_ && std::exchange(rested_at_, commits_) != commits_) {
      store_->forget_caches();
      choice_.forget();
    }
    const std::int64_t now = system_now();
    Housekeeping done;
    if (now >= looks_at_) {
      if (const auto kept = store_->kept()) done.kept = {kept->stored, kept->accounted};
      const std::vector<std::string> missing = store_->missing();
      done.missing = missing.empty()
                         ? ""
                         : "the file of the index " + missing.front() +
                               (missing.size() == 1
                                    ? " is"
                                    : " and those of " + std::to_string(missing.size() - 1) + " more are") +
                               " gone, and what it held is not found: put it back, or give it up (dingle "
                               "indexes delete " +
                               missing.front() + ")";
      // Looking at many indexes takes no more than this part of the time.
      looks_at_ = system_now() + std::max<std::int64_t>(2 * kSecond, 200 * (system_now() - now));
    }
    if ((keep_age_ == 0 && keep_bytes_ == 0) || now - retained_at_ < 10 * kSecond) return done;
    retained_at_ = now;
    done.soon_gone = store_->soon_gone(keep_bytes_);
    for (const Removed& r : store_->retain(keep_age_ ? now - keep_age_ : 0, keep_bytes_)) {
      done.said.push_back("the index " + r.index + " with " + std::to_string(r.events) +
                          " events was removed: " + r.why);
      done.counts.insert(done.counts.end(), {{"removed_indexes", 1}, {"removed_events", r.events}});
    }
    return done;
  }

 private:
  // The resource and where the event was made, the same for long runs of events.
  std::span<const Field> extras_of(const SpooledEvent& e) {
    if (extras_.empty() || last_.resource.data() != e.resource.data() ||
        last_.source.data() != e.source.data() || last_.zone.data() != e.zone.data() ||
        last_.pipeline.data() != e.pipeline.data() || last_.template_number != e.template_number ||
        last_.altered != e.altered) {
      std::vector<Field> fields(e.resource.begin(), e.resource.end());
      if (!e.source.empty()) fields.push_back({names::source, Value::text(e.source)});
      if (!e.zone.empty() && e.zone != "UTC") fields.push_back({names::zone, Value::text(e.zone)});
      fields.push_back({names::pipeline, Value::text(e.pipeline)});
      fields.push_back({names::configuration, Value::text(e.configuration)});
      if (e.template_number) fields.push_back({names::template_number, Value::integer(e.template_number)});
      if (e.altered) fields.push_back({names::altered, Value::boolean(true)});
      extras_.push_back(std::move(fields));
      last_ = e;
    }
    return extras_.back();
  }

  std::shared_ptr<Store> store_;
  std::atomic<bool> cancelled_{false};
  bool compared_ = false;
  Sender sender_;
  FieldChoice choice_;
  std::int64_t keep_age_ = 0, retained_at_ = 0, looks_at_ = 0;
  std::uint64_t resting_at_ = 0, rested_at_ = 0;  // commits
  std::uint64_t keep_bytes_ = 0, commits_ = 0;
  std::deque<std::vector<Field>> extras_;
  SpooledEvent last_;
};

std::vector<OptionSpec> with_remote(std::vector<OptionSpec> own) {
  for (OptionSpec& o : remote_index_options()) own.push_back(std::move(o));
  return own;
}

const DestinationKind kIndexDestination{
    {"index",
     "Dingle's own indexed store, in the data folder, or that of another dingled. Exactly once. An index is "
     "one file; its name carries a "
     "date so that old days can be deleted as a whole.",
     "index: { name: 'gate-{day}', keep: { age: 30d } }",
     with_remote(
         {{.name = "name",
           .type = OptionType::text,
           .fallback = "events-{day}",
           .text =
               "The index of an event: a text with `{day}`, `{month}` of the event's time, or fields in it."},
          {.name = "zone",
           .type = OptionType::zone,
           .fallback = "UTC",
           .text = "The zone in which days begin."},
          {.name = "keep",
           .type = OptionType::section,
           .text = "How long indexes are kept. Whole indexes are deleted.",
           .section = {{.name = "age",
                        .type = OptionType::duration,
                        .text = "Indexes whose newest event is older, and to which nothing came for as long, "
                                "are deleted: what is imported today "
                                "stays. Each is logged, and counted in `dingle status`."},
                       {.name = "bytes",
                        .type = OptionType::size,
                        .text =
                            "The oldest indexes are deleted while all together are larger; the newest one "
                            "always stays."}}},
          value_choice_option()})},
    true,
    [](const Checking& c) -> std::shared_ptr<const Namer> {
      const Options& options = c.options;
      Findings& findings = c.findings;
      check_value_choice(options.section("events"), findings);
      auto zone = Zone::named(options.text("zone"));
      if (!zone) {
        findings.error_within(options.where("zone"), zone.problem());
        return nullptr;
      }
      const std::string& at = options.text("at");
      if (!at.empty() && !at.starts_with("https://") && !at.starts_with("http://127.0.0.1:") &&
          !at.starts_with("http://localhost:"))
        findings.error(options.where("at"), "`at` begins with https://", "over a network only TLS is used");
      for (const char* remote : {"into", "token", "compression", "timeout", "tls"})
        if (at.empty() && options.given(remote))
          findings.error(options.where(remote), std::string("`") + remote + "` needs `at`",
                         "add at: https://HOST:PORT");
      if (!at.empty() && options.given("keep"))
        findings.error(options.where("keep"), "`keep` is decided where the store is", "leave it out here");
      auto namer = Namer::parse(options.text("name"), *zone);
      if (!namer) {
        findings.error_within(options.where("name"), namer.problem());
        return nullptr;
      }
      return std::make_shared<Namer>(std::move(*namer));
    },
    [](const DestinationMaking& m) -> std::unique_ptr<Destination> {
      if (m.settings.options.given("at")) return make_remote_index(m);
      return std::make_unique<Index>(m);
    }};
const DestinationRegistration index_destination(kIndexDestination);

}  // namespace

std::string index_folder(const std::string& data, std::uint32_t destination) {
  return data + "/indexes/" + std::to_string(destination);
}

}  // namespace dingle
