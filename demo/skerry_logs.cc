// Writes the log files of Skerry Line, a made-up ferry company: seven services, the same seed, the same
// lines.
//
//   skerry-logs --out DIR --lines 4000              samples: a morning that begins at --start
//   skerry-logs --out DIR --live --rate 200         writes on and on, at the current time, until it is
//   stopped
//   skerry-logs --places demo/places.ndjson > demo/places.mmdb    the database of places
#include <fmt/format.h>
#include <signal.h>

#include <CLI/CLI.hpp>
#include <chrono>
#include <cstdint>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <iterator>
#include <map>
#include <random>
#include <string>
#include <thread>
#include <vector>

#include "demo/place_writer.h"

namespace {

using namespace std::chrono;

volatile sig_atomic_t stop = 0;

class Company {
 public:
  Company(std::string folder, std::uint64_t seed, bool fresh) : folder_(std::move(folder)), random_(seed) {
    std::filesystem::create_directories(folder_);
    for (const char* service : {"ticket-gate", "manifest-api", "berthing", "tide-gauge", "crane-ctl",
                                "radio-bridge", "customs-ids"}) {
      const std::string path = folder_ + "/" + service + ".log";
      const bool empty = fresh || !std::filesystem::exists(path);
      files_[service].open(path, fresh ? std::ios::trunc : std::ios::app);
      if (empty && std::string(service) == "tide-gauge")
        files_[service] << "time,harbour,level_m,surge_m,quality\n";
    }
  }

  // One thing that happens at sea or ashore; it may leave lines in several logs. Answers how many.
  std::size_t happen(system_clock::time_point now) {
    now_ = now;
    lines_ = 0;
    const unsigned dice = below(1000);
    if (dice < 520)
      passenger();
    else if (dice < 640)
      gate_health();
    else if (dice < 700)
      manifest_job();
    else if (dice < 780)
      berth();
    else if (dice < 830)
      tide();
    else if (dice < 915)
      crane();
    else if (dice < 975)
      radio();
    else
      customs();
    return lines_;
  }
  void flush() {
    for (auto& [name, file] : files_) file.flush();
  }
  unsigned below(unsigned n) { return static_cast<unsigned>(random_() % n); }

 private:
  template <std::size_t N>
  const char* one(const char* const (&list)[N]) {
    return list[below(N)];
  }
  std::string hex(int digits) {
    std::string out;
    while (static_cast<int>(out.size()) < digits) out += fmt::format("{:016x}", random_());
    return out.substr(0, static_cast<std::size_t>(digits));
  }
  void write(const char* service, const std::string& line) {
    files_[service] << line << '\n';
    ++lines_;
  }

  struct Clock {
    int year;
    unsigned month, day;
    int hour, minute, second, millisecond;
  };
  Clock clock(seconds ahead = seconds(0)) const {
    const auto t = now_ + ahead;
    const auto day = floor<days>(t);
    const year_month_day ymd(day);
    const auto ms = duration_cast<milliseconds>(t - day).count();
    return {int(ymd.year()),      unsigned(ymd.month()), unsigned(ymd.day()), int(ms / 3600000),
            int(ms / 60000 % 60), int(ms / 1000 % 60),   int(ms % 1000)};
  }
  static const char* month_name(unsigned m) {
    static const char* const names[] = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                        "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
    return names[m - 1];
  }
  std::string iso(char separator, char dot, const char* zone) const {
    const Clock c = clock();
    return fmt::format("{:04}-{:02}-{:02}{}{:02}:{:02}:{:02}{}{:03}{}", c.year, c.month, c.day, separator,
                       c.hour, c.minute, c.second, dot, c.millisecond, zone);
  }

  const char* ship() {
    static const char* const names[] = {"Kittiwake",   "Guillemot", "Razorbill",   "Fulmar",
                                        "Arctic Tern", "Gannet",    "Storm Petrel"};
    return one(names);
  }
  const char* harbour() {
    static const char* const names[] = {"Northquay", "Saltholm", "Islet 4"};
    return one(names);
  }
  std::string berth_name() {
    static const char* const harbours[] = {"NQ", "SH", "I4"};
    return fmt::format("{}-{:02}", one(harbours), 1 + below(12));
  }
  std::string gate_address() {
    return below(20) == 0 ? fmt::format("2001:db8::{:x}", below(4096))
                          : fmt::format("192.0.2.{}", 1 + below(60));
  }

  void gate_line(const std::string& method, const std::string& path, int status, const std::string& agent,
                 const std::string& trace) {
    const Clock c = clock(hours(1));  // the turnstiles run on local time
    const std::string user = below(3) == 0 ? "-" : fmt::format("staff{:02}", below(40));
    write("ticket-gate",
          fmt::format("{} - {} [{:02}/{}/{:04}:{:02}:{:02}:{:02} +0100] \"{} {} HTTP/1.1\" {} {} \"{}\" "
                      "\"{}\" {:.3f} trace={}",
                      gate_address(), user, c.day, month_name(c.month), c.year, c.hour, c.minute, c.second,
                      method, path, status, status == 204 ? 0 : 80 + below(2400),
                      below(3) ? "-" : "https://skerry.example/timetable", agent,
                      (4 + below(90)) / 1000.0 + (below(50) == 0 ? 1.5 : 0), trace));
  }

  void passenger() {
    const std::string trace = hex(32);
    const unsigned gate = 1 + below(9);
    const bool refused = below(30) == 0, broken = below(140) == 0;
    gate_line("POST", fmt::format("/gate/{}/scan?ticket=T-{:05}", gate, below(100000)),
              broken    ? 500 + static_cast<int>(below(4))
              : refused ? 403
                        : 200,
              fmt::format("Turnstile/4.{}", below(3)), trace);
    if (below(12) == 0)
      write("ticket-gate", fmt::format("gate {} watchdog: sensor {} restarted", gate,
                                       below(4)));  // another layout, which nothing parses
    if (below(3) != 0) manifest_line(trace, refused, broken);
    if (broken) stack_trace(trace);
  }

  void gate_health() { gate_line("GET", "/health", 204, "probe/1.0", hex(32)); }

  void manifest_line(const std::string& trace, bool refused, bool broken) {
    const std::string payload =
        below(4) == 0 ? fmt::format(",\"payload\":\"{{\\\"cabin\\\":\\\"{}{}\\\",\\\"bags\\\":{}}}\"",
                                    "ABC"[below(3)], 1 + below(40), below(4))
                      : "";
    write("manifest-api", fmt::format("{{\"time\":\"{}\",\"level\":\"{}\",\"message\":\"{}\",\"trace_id\":\"{"
                                      "}\",\"span_id\":\"{}\",\"ship\":\"{}\",\"passengers\":{},\"http\":{{"
                                      "\"method\":\"PUT\",\"status\":{}}},\"took_ms\":{:.1f}{}}}",
                                      iso('T', '.', "Z"),
                                      broken    ? "error"
                                      : refused ? "warn"
                                                : "info",
                                      broken    ? "manifest could not be stored"
                                      : refused ? "ticket is not on the manifest"
                                                : "passenger boarded",
                                      trace, hex(16), ship(), below(400),
                                      broken    ? 500
                                      : refused ? 404
                                                : 200,
                                      2 + below(600) / 10.0, payload));
    if (below(90) == 0)
      write("manifest-api", "{\"time\":\"" + iso('T', '.', "Z") +
                                "\",\"level\":\"info\",\"message\":\"cut off by a rest");  // malformed
  }

  void manifest_job() {
    write("manifest-api", fmt::format("{{\"time\":\"{}\",\"level\":\"debug\",\"message\":\"queue "
                                      "checked\",\"depth\":{},\"tags\":[\"night\",\"batch\"]}}",
                                      iso('T', '.', "Z"), below(30)));
  }

  void berth_line(const char* level, const char* logger, const std::string& message) {
    write("berthing", fmt::format("{} {:<5} [berth-planner-{}] {} - {}", iso(' ', ',', ""), level,
                                  1 + below(4), logger, message));
  }
  void berth() {
    const unsigned dice = below(20);
    if (dice < 12)
      berth_line("INFO", "example.skerry.berthing.Planner",
                 fmt::format("Assigned berth {} to {} for {} minutes", berth_name(), ship(), 15 + below(90)));
    else if (dice < 17)
      berth_line("DEBUG", "example.skerry.berthing.TideClient",
                 fmt::format("Asked {} for its level, answered in {} ms", harbour(), 1 + below(80)));
    else if (dice < 19)
      berth_line(
          "WARN", "example.skerry.berthing.Planner",
          fmt::format("{} is {} minutes late, berth {} stays reserved", ship(), 5 + below(50), berth_name()));
    else
      stack_trace(hex(32));
  }
  void stack_trace(const std::string& trace) {
    berth_line("ERROR", "example.skerry.berthing.ManifestListener", "Manifest rejected trace=" + trace);
    write("berthing",
          fmt::format("java.lang.IllegalStateException: berth {} is occupied by {}", berth_name(), ship()));
    const unsigned depth = 2 + below(5);
    for (unsigned i = 0; i < depth; ++i)
      write("berthing", fmt::format("\tat example.skerry.berthing.{}.{}({}.java:{})",
                                    one({"Planner", "Ledger", "Slot"}), one({"assign", "lock", "find"}),
                                    one({"Planner", "Ledger", "Slot"}), 20 + below(300)));
    write("berthing", "Caused by: java.util.concurrent.TimeoutException: no answer in 2000 ms");
    write("berthing", fmt::format("\t... {} more", 3 + below(20)));
  }
  template <std::size_t N>
  const char* one(const char* const (&&list)[N]) {
    return list[below(N)];
  }

  void tide() {
    const Clock c = clock();
    if (below(60) == 0) return write("tide-gauge", fmt::format("#gauge {} recalibrated", harbour()));
    write("tide-gauge",
          fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z,{},{:.2f},{:.2f},{}", c.year, c.month, c.day,
                      c.hour, c.minute, c.second, harbour(), 1.2 + below(180) / 100.0,
                      below(60) / 100.0 - 0.2, below(25) == 0 ? "suspect" : "ok"));
  }

  void crane() {
    const double epoch =
        static_cast<double>(duration_cast<milliseconds>(now_.time_since_epoch()).count()) / 1000.0;
    const bool alarm = below(40) == 0;
    write("crane-ctl",
          fmt::format(
              "ts={:.3f} crane={} op={} load_kg={} state={}{}", epoch, 1 + below(4),
              one({"lift", "lower", "slew", "park"}), below(30000), alarm ? "alarm" : "ok",
              alarm ? fmt::format(" reason=\"wind {} m/s, boom locked\"", 18 + below(12)) : std::string()));
  }

  void radio() {
    const Clock c = clock();
    const unsigned priority = 8 * 17 + 4 + below(3);
    const unsigned channel = 10 + below(14);
    if (below(2) == 0) {
      write(
          "radio-bridge",
          fmt::format(
              "<{}>{} {:2} {:02}:{:02}:{:02} bridge-{} radio[{}]: channel {} {}", priority,
              month_name(c.month), c.day, c.hour, c.minute, c.second, 1 + below(3), 400 + below(30), channel,
              below(5) == 0
                  ? fmt::format("<call><ship>{}</ship><position lat=\"59.{:04}\" lon=\"10.{:04}\"/></call>",
                                ship(), below(10000), below(10000))
                  : fmt::format("{} calling {}", ship(), harbour())));
    } else {
      write("radio-bridge",
            fmt::format(
                "<{}>1 {} bridge-{}.skerry.example radio {} CALL [call channel=\"{}\" ship=\"{}\"] {} for {}",
                priority, iso('T', '.', "Z"), 1 + below(3), 400 + below(30), channel, ship(),
                one({"permission to enter granted", "holding position", "pilot requested"}), harbour()));
    }
  }

  void customs() {
    const Clock c = clock();
    const std::string time = fmt::format("{:04}/{:02}/{:02} {:02}:{:02}:{:02}", c.year, c.month, c.day,
                                         c.hour, c.minute, c.second);
    if (below(2) == 0)
      write("customs-ids", fmt::format("CUS 4101|{}|198.51.100.{}:{}>192.0.2.{}:443|tcp|score {}|{}", time,
                                       below(255), 1024 + below(60000), below(60), 20 + below(80),
                                       one({"port scan", "unknown client", "many failed logins"})));
    else
      write("customs-ids", fmt::format("CUS 4102|{}|container SKLU-{:06}|held {} h|declared {} EUR|{}", time,
                                       below(1000000), 1 + below(72), 100 + below(90000),
                                       one({"weight differs", "seal broken", "papers missing"})));
  }

  std::string folder_;
  std::mt19937_64 random_;
  std::map<std::string, std::ofstream> files_;
  system_clock::time_point now_;
  std::size_t lines_ = 0;
};

}  // namespace

int main(int argc, char** argv) {
  CLI::App app{"Writes the log files of Skerry Line, a made-up ferry company.", "skerry-logs"};
  std::string folder, places, start = "2026-11-21T07:30:00";
  std::uint64_t seed = 7, lines = 4000, rate = 100;
  bool live = false;
  app.add_option("--out", folder, "The folder for the files");
  app.add_option("--places", places,
                 "Writes a database of the places in this file to standard output, and nothing else");
  app.add_option("--seed", seed, "The same seed gives the same lines")->capture_default_str();
  app.add_option("--lines", lines, "How many lines in all; in live mode 0 is without end")
      ->capture_default_str();
  app.add_option("--start", start, "When the samples begin (UTC)")->capture_default_str();
  app.add_flag("--live", live, "Append on and on, at the current time");
  app.add_option("--rate", rate, "Lines a second in live mode")->capture_default_str();
  CLI11_PARSE(app, argc, argv);
  if (!places.empty()) {
    std::ifstream in(places);
    const std::string file = dingle::write_places(std::string(std::istreambuf_iterator<char>(in), {}));
    std::cout << file << std::flush;
    return file.empty() ? 2 : 0;
  }
  if (folder.empty()) {
    std::fprintf(stderr, "skerry-logs: --out DIR says where the files go\n");
    return 2;
  }
  signal(SIGTERM, [](int) { stop = 1; });
  signal(SIGINT, [](int) { stop = 1; });
  Company company(folder, seed, !live);
  if (live) {
    const bool endless = app.count("--lines") == 0 || lines == 0;
    const auto began = steady_clock::now();
    for (std::uint64_t written = 0; !stop && (endless || written < lines);) {
      const double due = duration<double>(steady_clock::now() - began).count() * static_cast<double>(rate);
      while (static_cast<double>(written) < due && (endless || written < lines))
        written += company.happen(system_clock::now());
      company.flush();
      std::this_thread::sleep_for(milliseconds(20));
    }
    return 0;
  }
  int y = 0, h = 0, m = 0, s = 0;
  unsigned mo = 0, d = 0;
  char sep = 0;
  if (std::sscanf(start.c_str(), "%d-%u-%u%c%d:%d:%d", &y, &mo, &d, &sep, &h, &m, &s) != 7) {
    std::fprintf(stderr, "skerry-logs: --start takes a time such as 2026-11-21T07:30:00\n");
    return 2;
  }
  auto now = system_clock::time_point(sys_days(year(y) / static_cast<int>(mo) / static_cast<int>(d))) +
             hours(h) + minutes(m) + seconds(s);
  for (std::uint64_t written = 0; written < lines;) {
    written += company.happen(now);
    // A ferry leaves every half hour; the quarter before it is busy.
    const auto minute = duration_cast<minutes>(now.time_since_epoch()).count() % 30;
    now += milliseconds(minute > 15 && minute < 28 ? 200 + company.below(1800) : 1500 + company.below(9000));
  }
  return 0;
}
