#include "agent/destinations/postgres_table.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "core/nearest.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::pair<const char*, const char*> kTypes[] = {{"text", "text"},
                                                          {"int", "bigint"},
                                                          {"decimal", "double precision"},
                                                          {"boolean", "boolean"},
                                                          {"timestamp", "timestamptz"},
                                                          {"ip", "inet"},
                                                          {"list", "jsonb"},
                                                          {"map", "jsonb"}};

const char* sql_type(std::string_view type) {
  for (auto [name, sql] : kTypes)
    if (type == name) return sql;
  return nullptr;
}

// Columns for what every event has. Those that are not needed are filled if the table has them.
struct OwnColumn {
  const char* name;
  PgColumn::From from;
  PgType type;
  const char* sql;
  bool needed = false;
};
constexpr OwnColumn kOwn[] = {{"time", PgColumn::From::time, PgType::timestamptz, "timestamptz", true},
                              {"observed", PgColumn::From::observed, PgType::timestamptz, "timestamptz"},
                              {"body", PgColumn::From::body, PgType::text, "text", true},
                              {"pipeline", PgColumn::From::pipeline, PgType::text, "text"},
                              {"template", PgColumn::From::template_number, PgType::int4, "integer"},
                              {"configuration", PgColumn::From::configuration, PgType::text, "text"},
                              {"stream", PgColumn::From::stream, PgType::int8, "bigint"},
                              {"position", PgColumn::From::position, PgType::int8, "bigint"}};

bool is_needed(std::string_view column) {
  return column == "fields" || std::any_of(std::begin(kOwn), std::end(kOwn), [&](const OwnColumn& own) {
           return own.needed && column == own.name;
         });
}

// The type of `column: type` or `column: { field: name, type: type }`; null if there is none.
const Node* type_of(const Node::Entry& e) { return e.value.is_map() ? e.value.find("type") : &e.value; }
bool is_type(const Node* type) { return type && type->is_scalar() && sql_type(type->scalar); }

std::string sql_of_new(const PgConnection& c, const PgTableSettings& settings, const std::string& sql_name) {
  std::string sql = "CREATE TABLE IF NOT EXISTS " + sql_name + "(fields jsonb";
  for (const OwnColumn& own : kOwn)
    if (!settings.has(own.name))
      sql += fmt::format(", {} {}{}", own.name, own.sql, own.from == PgColumn::From::time ? " NOT NULL" : "");
  for (const auto& column : settings.columns)
    sql += ", " + c.quoted(column.name) + " " + sql_type(column.type);
  return sql + (settings.partition == "none" ? ")" : ") PARTITION BY RANGE (time)");
}

}  // namespace

namespace {

constexpr const char* kMark = "made by dingle";

bool names_fields(std::string text) {
  for (const std::string own : {"{day}", "{month}"})
    for (std::size_t at; (at = text.find(own)) != std::string::npos;) text.erase(at, own.size());
  return text.find('{') != std::string::npos;
}

}  // namespace

PgTableSettings::PgTableSettings(const Options& options)
    : by_field(names_fields(options.text("table"))),
      create(options.flag("create")),
      partition(options.text("partition")) {
  for (const Node::Entry& e : options.tree("columns").entries) {
    const Node* field = e.value.is_map() ? e.value.find("field") : nullptr;
    if (const Node* type = type_of(e); is_type(type))
      columns.push_back({e.key, type->scalar, field_id(field ? field->scalar : e.key)});
  }
}

bool PgTableSettings::has(std::string_view column) const {
  return std::any_of(columns.begin(), columns.end(), [&](const Column& c) { return c.name == column; });
}

void check_pg_table(const Options& options, Findings& findings) {
  std::vector<std::string> types;
  for (auto [name, sql] : kTypes) types.emplace_back(name);
  for (const Node::Entry& e : options.tree("columns").entries) {
    const Node* type = type_of(e);
    if (!is_type(type))
      findings.error(type ? *type : e.value, "the column `" + e.key + "` needs a type",
                     "for instance int, or { field: http.status, type: int }; types: " + one_of(types));
    if (is_needed(e.key))
      findings.error(e.key_place, e.key.size(), "the column `" + e.key + "` is filled anyway",
                     "choose another name for this one");
  }
}

std::string pg_literal(std::string_view text) {
  std::string out = "'";
  for (char c : text) {
    if (c == '\'') out += '\'';
    out += c;
  }
  return out + "'";
}

std::string pg_quoted_table(const PgConnection& c, const std::string& table) {
  const std::size_t dot = table.find('.');
  return dot == std::string::npos ? c.quoted(table)
                                  : c.quoted(table.substr(0, dot)) + "." + c.quoted(table.substr(dot + 1));
}

std::optional<PgTable> PgTable::learn(PgConnection& connection, const PgTableSettings& settings,
                                      const std::string& name, std::string& problem) {
  const std::string sql_name = pg_quoted_table(connection, name);
  const std::string query = fmt::format(
      "SELECT a.attname, a.atttypid, c.relkind, a.attnotnull AND NOT a.atthasdef AND a.attidentity = '', "
      "obj_description(c.oid, 'pg_class') "
      "FROM pg_catalog.pg_class c LEFT JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid AND "
      "a.attnum > 0 AND NOT a.attisdropped WHERE c.oid = to_regclass({}) ORDER BY a.attnum",
      pg_literal(sql_name));
  PgResult rows = connection.run(query);
  if (!rows) return {};
  if (PQ(PQntuples)(rows.get()) == 0) {
    if (!settings.create) {
      problem = "there is no table " + name + ", and `create` is false";
      return {};
    }
    if (!connection.run(sql_of_new(connection, settings, sql_name)) ||
        !connection.run("COMMENT ON TABLE " + sql_name + " IS " + pg_literal(kMark)) ||
        !(rows = connection.run(query)))
      return {};
  }
  const std::string bare = name.substr(name.find('.') == std::string::npos ? 0 : name.find('.') + 1);
  if (settings.by_field && (bare.starts_with("dingle_") || PQ(PQntuples)(rows.get()) == 0 ||
                            !std::string_view(PQ(PQgetvalue)(rows.get(), 0, 4)).starts_with(kMark))) {
    problem = "the table " + name +
              " was not made by dingle: a table that a field of an event names may only be one of "
              "its own; name it in `table` itself, or add COMMENT ON TABLE " +
              sql_name + " IS " + pg_literal(kMark);
    return {};
  }
  PgTable table(settings, name);
  std::map<std::string, PgType> types;
  std::set<std::string> must_be_filled;
  for (int i = 0; i < PQ(PQntuples)(rows.get()); ++i) {
    const std::string column = PQ(PQgetvalue)(rows.get(), i, 0);
    table.partitioned_ = *PQ(PQgetvalue)(rows.get(), i, 2) == 'p';
    types[column] =
        pg_type_of(static_cast<std::uint32_t>(std::strtoul(PQ(PQgetvalue)(rows.get(), i, 1), nullptr, 10)));
    if (*PQ(PQgetvalue)(rows.get(), i, 3) == 't') must_be_filled.insert(column);
  }
  std::string missing;
  for (const auto& column : settings.columns)
    if (!types.count(column.name))
      missing += fmt::format("{}ADD COLUMN IF NOT EXISTS {} {}", missing.empty() ? "" : ", ",
                             connection.quoted(column.name), sql_type(column.type));
  if (!missing.empty()) {
    if (settings.create)
      return connection.run("ALTER TABLE " + sql_name + " " + missing)
                 ? learn(connection, settings, name, problem)
                 : std::nullopt;
    problem = "the table " + name + " has not all columns of `columns`, and `create` is false: ALTER TABLE " +
              sql_name + " " + missing;
    return {};
  }
  auto misfit = [&](const std::string& column, const std::string& what) {
    problem = "the table " + name + " does not fit: its column `" + column + "` " + what;
    return std::nullopt;
  };
  for (const OwnColumn& own : kOwn) {
    const auto it = types.find(own.name);
    if ((it == types.end() && !own.needed) || settings.has(own.name)) continue;
    if (it == types.end() || it->second != own.type)
      return misfit(own.name, std::string("must be ") + own.sql);
    table.columns_.push_back({own.name, own.from, kNoField, own.type});
  }
  for (const auto& column : settings.columns) {
    if (types[column.name] == PgType::unsupported)
      return misfit(column.name, std::string("must be ") + sql_type(column.type));
    table.columns_.push_back({column.name, PgColumn::From::field, column.field, types[column.name]});
  }
  const auto free = types.find("fields");
  if (free == types.end() || (free->second != PgType::jsonb && free->second != PgType::json))
    return misfit("fields", "must be jsonb: other fields go there");
  // It comes last: by then it is known what did not fit its own column.
  table.columns_.push_back({"fields", PgColumn::From::fields, kNoField, free->second});
  for (const PgColumn& column : table.columns_) must_be_filled.erase(column.name);
  if (!must_be_filled.empty())
    return misfit(*must_be_filled.begin(), "may not be null, but nothing fills it: give it a default");
  return table;
}

// The first day of the partition that holds the time.
std::int64_t PgTable::partition_of(std::int64_t time) const {
  const Civil c = civil_from_instant(time);
  return days_from_civil(c.year, c.month, settings_->partition == "month" ? 1 : c.day);
}

bool PgTable::make_partitions(PgConnection& connection, std::span<const DeliveryEvent> events) {
  if (!makes_partitions()) return true;
  for (const DeliveryEvent& e : events) {
    // Wild times share one, so that a broken clock does not make thousands.
    constexpr std::int64_t k1990 = days_from_civil(1990, 1, 1) * kDay;
    if (e.event.timestamp < k1990 || e.event.timestamp > e.event.observed + kDay) {
      if (!others_ &&
          !connection.run(fmt::format("CREATE TABLE IF NOT EXISTS {} PARTITION OF {} DEFAULT",
                                      pg_quoted_table(connection, name_ + "_others"),
                                      pg_quoted_table(connection, name_))) &&
          connection.error().state != "42P17" && connection.error().state != "42P16")
        return false;
      others_ = true;
      continue;
    }
    const std::int64_t day = partition_of(e.event.timestamp);
    if (partitions_.count(day)) continue;
    const bool monthly = settings_->partition == "month";
    const Civil from = civil_from_instant(day * kDay);
    std::int64_t next = day + 1;
    if (monthly)
      next = from.month == 12 ? days_from_civil(from.year + 1, 1, 1)
                              : days_from_civil(from.year, from.month + 1, 1);
    const Civil to = civil_from_instant(next * kDay);
    std::string part = fmt::format("{}_{:04}_{:02}", name_, from.year, from.month);
    if (!monthly) part += fmt::format("_{:02}", from.day);
    if (!connection.run(fmt::format("CREATE TABLE IF NOT EXISTS {} PARTITION OF {} FOR VALUES FROM "
                                    "('{:04}-{:02}-{:02} 00:00:00+00') TO ('{:04}-{:02}-{:02} 00:00:00+00')",
                                    pg_quoted_table(connection, part), pg_quoted_table(connection, name_),
                                    from.year, from.month, from.day, to.year, to.month, to.day)) &&
        connection.error().state != "42P17" &&  // overlaps one that somebody else made: that will do
        connection.error().state != "23514")    // the default one holds events of that day: so it will these
      return false;
    partitions_.insert(day);
  }
  return true;
}

bool PgTable::may_lack_partition(const PgError& error) {
  if (error.state != "23514" || !makes_partitions() || doubted_) return false;  // a check was violated
  doubted_ = true;
  others_ = false;
  partitions_.clear();
  return true;
}

}  // namespace dingle
