// postgres: a table of PostgreSQL. Exactly once: events and progress are committed in one transaction. Beside
// the table it keeps
//   dingle_progress(spool, destination, target, lane, epoch, number, ordinal, stored)   how far a table has each
//     lane; summed over lanes, how many rows were stored
//   dingle_sender(spool, epoch, nonce)                      the newest opening of each spool that wrote here
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "agent/destinations/destination.h"
#include "agent/destinations/field_choice.h"
#include "agent/destinations/postgres_connection.h"
#include "agent/destinations/postgres_rows.h"
#include "agent/destinations/postgres_table.h"
#include "agent/secret.h"
#include "store/index_file.h"

namespace dingle {
namespace {

constexpr std::size_t kCopied = 256u << 10;  // of a COPY, handed to the connection at once

class Postgres final : public Destination {
 public:
  explicit Postgres(const DestinationMaking& m)
      : sender_{m.spool.spool_id, m.spool.epoch, m.spool.nonce, m.id},
        target_(m.settings.options.text("connect")),
        table_settings_(m.settings.options),
        choice_(m.settings.options.section("events")),
        connection_(cancelled_, std::chrono::milliseconds(m.settings.options.number("timeout") / 1'000'000)) {
    auto password = read_secret(m.settings.options, "password");
    if (password)
      password_ = *password;
    else
      problem_ = password.problem().message;
  }
  void cancel() override { cancelled_ = true; }
  // A transaction that writes and waits for the disk makes those before it durable as well.
  bool flush() override {
    return connection_.connected() &&
           connection_.run(
               fmt::format("BEGIN; SET LOCAL synchronous_commit = on; UPDATE dingle_sender SET epoch = epoch "
                           "WHERE spool = {}; COMMIT",
                           signed_(sender_.spool)));
  }

  Housekeeping idle() override { return choice_.forget(), Housekeeping{}; }

  Delivery deliver(std::span<const DeliveryEvent> events) override {
    if (!problem_.empty()) return Delivery::retry(problem_);
    if (!connection_.connected()) {
      tables_.clear();
      if (!connection_.connect(target_, password_) || !introduce()) return failed("");
      PgResult held =
          connection_.run(fmt::format("SELECT epoch, number FROM dingle_progress WHERE spool = {} AND "
                                      "destination = {} ORDER BY epoch DESC, number "
                                      "DESC LIMIT 1",
                                      signed_(sender_.spool), sender_.destination));
      if (!held) return failed("");
      Delivery connected = Delivery::retry("connected");
      connected.at_once = true;
      connected.held = LogNumber{};
      if (!read_stored()) return failed("");
      connected.stored = stored_;
      if (PQ(PQntuples)(held.get()) == 1)
        connected.held = LogNumber{std::strtoull(PQ(PQgetvalue)(held.get(), 0, 0), nullptr, 10),
                                   std::strtoull(PQ(PQgetvalue)(held.get(), 0, 1), nullptr, 10)};
      return connected;
    }
    if (!copied_.empty()) return Delivery::retry(copied_);
    events = choice_.of(events);
    std::map<std::string_view, std::vector<std::size_t>> by_table;
    for (std::size_t i = 0; i < events.size(); ++i) by_table[events[i].event.name].push_back(i);
    if (by_table.size() == 1) return deliver(std::string(by_table.begin()->first), events);
    Delivery all;
    all.outcomes.assign(events.size(), Outcome{});
    for (const auto& [name, which] : by_table) {
      std::vector<DeliveryEvent> own;
      for (std::size_t i : which) own.push_back(events[i]);
      Delivery d = deliver(std::string(name), own);
      for (std::size_t i = 0; i < which.size(); ++i) all.outcomes[which[i]] = d.of(i);
      all.at_once |= d.at_once;
      all.durable &= d.durable;
      all.stored = stored_;
      all.counts.insert(all.counts.end(), d.counts.begin(), d.counts.end());
    }
    return all;
  }

 private:
  using Progress = std::array<EventOrder, kLanes>;

  Delivery failed(const std::string& about) {
    const PgError error = connection_.error();
    if (error.of_schema()) tables_.clear();  // it may have changed
    if (connection_.connected()) connection_.run("ROLLBACK");
    return Delivery::retry(about.empty() ? error.message : about + ": " + error.message, error.too_slow);
  }

  // Makes what we keep there, and says which opening of the spool writes from now on.
  bool introduce() {
    copied_.clear();
    // Looked for first: who may not create, may still write.
    PgResult there = connection_.run(
        "SELECT count(*) FROM pg_catalog.pg_class WHERE oid IN (to_regclass('dingle_progress'), "
        "to_regclass('dingle_sender'))");
    if (!there) return false;
    if (std::string(PQ(PQgetvalue)(there.get(), 0, 0)) != "2" &&
        !connection_.run(
            "SELECT pg_advisory_lock(3464);"
            "CREATE TABLE IF NOT EXISTS dingle_progress(spool bigint, destination bigint, target text, lane "
            "smallint, epoch bigint NOT NULL, number bigint NOT NULL, ordinal bigint NOT NULL, stored bigint "
            "NOT NULL DEFAULT 0, PRIMARY KEY(spool, destination, target, lane));"
            "CREATE TABLE IF NOT EXISTS dingle_sender(spool bigint PRIMARY KEY, epoch bigint NOT NULL, nonce "
            "bigint NOT NULL);"
            "SELECT pg_advisory_unlock(3464)"))
      return false;
    return connection_.run(fmt::format("INSERT INTO dingle_sender AS s VALUES({0}, {1}, {2}) ON CONFLICT "
                                       "(spool) DO UPDATE SET epoch = {1}, "
                                       "nonce = {2} WHERE s.epoch < {1}",
                                       signed_(sender_.spool), sender_.epoch, signed_(sender_.nonce))) !=
           nullptr;
  }
  // How many rows it has of us, of all tables. Tables of earlier programs did not count; who may not change them goes
  // without. False: see error().
  bool read_stored() {
    stored_.reset();
    const auto one = [](const PgResult& r) {
      return std::strtoull(PQ(PQgetvalue)(r.get(), 0, 0), nullptr, 10);
    };
    const char* counts =
        "SELECT count(*) FROM pg_catalog.pg_attribute WHERE attrelid = to_regclass('dingle_progress') AND "
        "attname "
        "= 'stored' AND NOT attisdropped";
    PgResult column = connection_.run(counts);
    if (!column) return false;
    if (one(column) == 0 &&
        !connection_.run(
            "ALTER TABLE dingle_progress ADD COLUMN IF NOT EXISTS stored bigint NOT NULL DEFAULT 0"))
      return connection_.connected();
    PgResult sum = connection_.run(
        fmt::format("SELECT coalesce(sum(stored), 0)::bigint FROM dingle_progress WHERE spool = {} AND "
                    "destination = {}",
                    signed_(sender_.spool), sender_.destination));
    if (!sum) return false;
    stored_ = one(sum);
    return true;
  }
  static std::int64_t signed_(std::uint64_t v) { return static_cast<std::int64_t>(v); }

  // Begins a transaction and reads the progress, which stays locked.
  bool begin(const std::string& name, Progress& progress, bool again = false) {
    PgResult sender = connection_.run(fmt::format(
        "BEGIN; {}SELECT epoch, nonce FROM dingle_sender WHERE spool = {} FOR SHARE",
        may_defer ? "SET LOCAL synchronous_commit = off; " : "SET LOCAL synchronous_commit = on; ",
        signed_(sender_.spool)));
    if (!sender) return false;
    if (PQ(PQntuples)(sender.get()) == 1) {
      const auto epoch = std::strtoull(PQ(PQgetvalue)(sender.get(), 0, 0), nullptr, 10);
      const auto nonce =
          static_cast<std::uint64_t>(std::strtoll(PQ(PQgetvalue)(sender.get(), 0, 1), nullptr, 10));
      if (epoch > sender_.epoch || (epoch == sender_.epoch && nonce != sender_.nonce))
        copied_ =
            "a copy of this spool has written here already: two programs must not run from one spool. Stop "
            "one of "
            "them, and give it an empty data folder";
    } else {
      // Restored from a backup. Introduced outside of the transaction, which would take it back.
      if (!connection_.run("ROLLBACK")) return false;
      if (again) {
        row_stays_ = false;
        return connection_.run("BEGIN") != nullptr;
      }
      return introduce() && begin(name, progress, true);
    }
    PgResult rows = connection_.run(
        fmt::format("INSERT INTO dingle_progress(spool, destination, target, lane, epoch, number, ordinal) "
                    "SELECT {0}, {1}, {2}, lane, 0, 0, 0 FROM "
                    "generate_series(0, {3}) lane ON CONFLICT "
                    "DO NOTHING; SELECT lane, epoch, number, ordinal FROM dingle_progress "
                    "WHERE spool = {0} AND destination = {1} "
                    "AND target = {2} ORDER BY lane FOR UPDATE",
                    signed_(sender_.spool), sender_.destination, pg_literal(name), kLanes - 1));
    if (!rows) return false;
    for (int i = 0; i < PQ(PQntuples)(rows.get()); ++i) {
      auto number = [&](int column) {
        return std::strtoull(PQ(PQgetvalue)(rows.get(), i, column), nullptr, 10);
      };
      progress[number(0) % kLanes] = {sender_.spool, number(1), number(2),
                                      static_cast<std::uint32_t>(number(3))};
    }
    return true;
  }

  EventOrder order_of(const DeliveryEvent& e) const {
    return {sender_.spool, e.number.epoch, e.number.number, e.event.ordinal};
  }

  bool copy(const std::string& name, PgRows& rows, std::span<const DeliveryEvent* const> events) {
    std::string columns;
    for (const PgColumn& c : rows.columns())
      columns += (columns.empty() ? "" : ", ") + connection_.quoted(c.name);
    if (!connection_.begin_copy("COPY " + pg_quoted_table(connection_, name) + "(" + columns +
                                ") FROM STDIN (FORMAT binary)"))
      return false;
    std::string piece = PgRows::head();
    for (const DeliveryEvent* e : events) {
      rows.append(e->event, piece);
      if (piece.size() < kCopied) continue;
      if (!connection_.copy(piece)) return false;
      piece.clear();
    }
    piece += PgRows::tail();
    return connection_.copy(piece) && connection_.end_copy(copied_rows_);
  }

  // Finds all events that the server refuses, with its reasons; nothing of it stays. False: something else.
  bool find_refused(const std::string& name, PgRows& rows, std::span<const DeliveryEvent* const> events,
                    std::map<const DeliveryEvent*, std::string>& refused) {
    if (!connection_.run("SAVEPOINT part")) return false;
    if (copy(name, rows, events)) return connection_.run("RELEASE part") != nullptr;
    const PgError error = connection_.error();
    if (!connection_.connected() || !error.of_data()) return false;
    if (!connection_.run("ROLLBACK TO part")) return false;
    if (events.size() == 1) {
      refused[events[0]] = error.message;
      return true;
    }
    const std::size_t half = events.size() / 2;
    return find_refused(name, rows, events.first(half), refused) &&
           find_refused(name, rows, events.subspan(half), refused);
  }

  Delivery deliver(const std::string& name, std::span<const DeliveryEvent> events) {
    auto known = tables_.find(name);
    if (known == tables_.end()) {
      std::string problem;
      auto learnt = PgTable::learn(connection_, table_settings_, name, problem);
      if (!learnt && problem.empty()) return failed("table " + name);
      if (!learnt && table_settings_.by_field)
        return {{{Outcome::Form::refused, problem}}};  // the events name it
      if (!learnt) return Delivery::retry(problem);
      if (tables_.size() > 100) tables_.clear();
      known = tables_.emplace(name, std::move(*learnt)).first;
    }
    PgTable& table = known->second;
    if (!table.make_partitions(connection_, events)) return failed("table " + name);
    Progress progress;
    row_stays_ = true;
    if (!begin(name, progress)) return failed("");
    if (!row_stays_) {
      connection_.run("ROLLBACK");
      return Delivery::retry(
          "the row of this spool in dingle_sender does not stay there; does a trigger or a policy take it "
          "away?");
    }
    if (!copied_.empty()) {
      connection_.run("ROLLBACK");
      return Delivery::retry(copied_);
    }
    std::vector<const DeliveryEvent*> fresh;
    std::array<bool, kLanes> moved{};
    for (const DeliveryEvent& e : events) {
      const unsigned lane = lane_of(e.event.stream);
      if (order_of(e) <= progress[lane]) continue;  // it is there already
      fresh.push_back(&e);
      progress[lane] = order_of(e);
      moved[lane] = true;
    }
    Delivery done;
    if (!fresh.empty()) {
      PgRows rows(table.columns());
      if (!copy(name, rows, fresh)) {
        if (!connection_.connected() || !connection_.error().of_data()) return failed("table " + name);
        if (table.may_lack_partition(connection_.error())) {
          Delivery again = failed("table " + name);
          again.at_once = true;
          return again;
        }
        return refuse(name, rows, events, fresh);
      }
      table.took();
      std::string values;
      std::uint64_t rows_more = copied_rows_;  // with the first lane
      for (unsigned lane = 0; lane < kLanes; ++lane)
        if (moved[lane])
          values += fmt::format("{}({}, {}::bigint, {}::bigint, {}::bigint, {}::bigint)",
                                values.empty() ? "" : ", ", lane, progress[lane].epoch, progress[lane].number,
                                progress[lane].ordinal, std::exchange(rows_more, 0));
      if (!connection_.run(fmt::format("UPDATE dingle_progress p SET epoch = v.epoch, number = v.number, "
                                       "ordinal = v.ordinal{} FROM (VALUES {}) "
                                       "v(lane, epoch, number, ordinal, stored) WHERE p.spool = {} AND "
                                       "p.destination = {} AND p.target = {} AND p.lane = v.lane; COMMIT",
                                       stored_ ? ", stored = p.stored + v.stored" : "", values,
                                       signed_(sender_.spool), sender_.destination, pg_literal(name))))
        return failed("");
      done.durable = !may_defer;
      if (stored_) *stored_ += copied_rows_;
      // A trigger of the table's may take rows elsewhere, or nowhere.
      if (copied_rows_ < fresh.size()) done.counts.emplace_back("elsewhere", fresh.size() - copied_rows_);
      if (rows.replaced()) done.counts.emplace_back("replaced", rows.replaced());
    } else if (!connection_.run("ROLLBACK") || (!may_defer && !flush())) {
      return failed("");  // what is there already may be of a commit that was not waited for
    } else {
      done.durable = !may_defer;
    }
    done.stored = stored_;
    return done;
  }

  // Some of the events are to blame: which, is answered; the others come again when those are set aside.
  Delivery refuse(const std::string& name, PgRows& rows, std::span<const DeliveryEvent> events,
                  std::span<const DeliveryEvent* const> fresh) {
    std::map<const DeliveryEvent*, std::string> refused;
    if (!connection_.run("ROLLBACK; BEGIN") || !find_refused(name, rows, fresh, refused))
      return failed("table " + name);
    if (!connection_.run("ROLLBACK")) return failed("");
    Delivery d;
    d.at_once = true;
    d.outcomes.clear();
    for (const DeliveryEvent& e : events) {
      auto it = refused.find(&e);
      d.outcomes.push_back(it == refused.end() ? Outcome{Outcome::Form::retry, "behind a refused event"}
                                               : Outcome{Outcome::Form::refused, it->second});
    }
    // What went wrong together went well one by one (a time-out of a lock): try it again as it is.
    if (refused.empty()) d.at_once = false;
    return d;
  }

  Sender sender_;
  std::string target_, password_, problem_, copied_;
  std::optional<std::uint64_t> stored_;  // rows, as the transactions counted them; nothing if they do not
  std::uint64_t copied_rows_ = 0;        // by the last COPY
  bool row_stays_ = true;                // of dingle_sender, once it was put there
  const PgTableSettings table_settings_;
  FieldChoice choice_;
  std::atomic<bool> cancelled_{false};
  PgConnection connection_;
  std::map<std::string, PgTable> tables_;
};

const DestinationKind kPostgresDestination{
    {"postgres",
     "A table of PostgreSQL 12 or newer. Exactly once: its progress is committed with the events, in the "
     "tables "
     "`dingle_progress` and `dingle_sender`. Events that the server refuses are set aside with its reason.",
     "postgres:\n  connect: 'host=db-1.example,db-2.example dbname=ferry user=dingle sslmode=verify-full'\n"
     "  password: { env: FERRY_PASSWORD }\n  table: gate\n"
     "  columns: { status: int, client: { field: client.address, type: ip } }",
     {{.name = "connect",
       .type = OptionType::text,
       .text = "A connection string or URI of libpq, without a password. Several hosts are tried one after "
               "another; `sslmode`, `sslrootcert` and so on are for TLS.",
       .required = true},
      {.name = "password", .type = OptionType::secret, .text = "The password."},
      {.name = "table",
       .type = OptionType::text,
       .fallback = "events",
       .text =
           "The table of an event: a name, perhaps with a schema before a dot, with `{day}`, `{month}` or "
           "fields in it."},
      {.name = "columns",
       .type = OptionType::columns,
       .text =
           "Fields with columns of their own: `column: type`, or `column: { field: name, type: type }`. "
           "Types: "
           "text, int, decimal, boolean, timestamp, ip, list, map. What does not fit the type, and all other "
           "fields, is in the column `fields`."},
      {.name = "create",
       .type = OptionType::boolean,
       .fallback = "true",
       .text = "Whether the table, its partitions and missing columns are made."},
      {.name = "partition",
       .type = OptionType::choice,
       .fallback = "day",
       .text = "By which part of the event's time a table that is made here is partitioned (UTC).",
       .choices = {"day", "month", "none"}},
      value_choice_option(),
      {.name = "timeout",
       .type = OptionType::duration,
       .fallback = "30s",
       .text = "How long an answer may take.",
       .least = 1000000}}},
    true,
    [](const Checking& c) -> std::shared_ptr<const Namer> {
      const Options& options = c.options;
      Findings& findings = c.findings;
      check_pg_table(options, findings);
      check_value_choice(options.section("events"), findings);
      const std::string& target = options.text("connect");
      if (target.find("password=") != std::string::npos)
        findings.error(options.where("connect"), "a password does not stand in `connect`",
                       "write password: { env: NAME }");
      char* message = nullptr;
      PQconninfoOption* parsed = PQ(PQconninfoParse)(target.c_str(), &message);
      if (parsed == nullptr && target.find('=') == std::string::npos &&
          target.find("://") == std::string::npos)
        findings.error(options.where("connect"), "`connect` takes a connection string of libpq",
                       "for instance 'host=db.example dbname=ferry user=dingle'");
      else if (parsed == nullptr)
        findings.error(options.where("connect"),
                       std::string("`connect`: ") + (message ? message : "not understood"));
      PQ(PQconninfoFree)(parsed);
      PQ(PQfreemem)(message);
      auto namer = Namer::parse(options.text("table"), Zone(), Namer::Form::table);
      if (!namer) {
        findings.error_within(options.where("table"), namer.problem());
        return nullptr;
      }
      return std::make_shared<Namer>(std::move(*namer));
    },
    [](const DestinationMaking& m) -> std::unique_ptr<Destination> { return std::make_unique<Postgres>(m); }};
const DestinationRegistration postgres_destination(kPostgresDestination);

}  // namespace
}  // namespace dingle
