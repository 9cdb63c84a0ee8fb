// dingle spool: looks at the queue on disk while dingled does not run; verifies and repairs it.
#include "spool/spool.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <filesystem>
#include <iostream>

#include "client/table.h"
#include "core/options/options.h"
#include "spool/inspect.h"

namespace dingle {
namespace {

using Look = Column::Look;

// Whether a dingled has the spool open.
bool in_use(const std::string& folder) {
  const int fd = ::open((folder + "/lock").c_str(), O_RDWR | O_CLOEXEC);
  if (fd < 0) return false;
  const bool used = ::flock(fd, LOCK_EX | LOCK_NB) != 0;
  ::close(fd);
  return used;
}

int refused(const Problem& problem) {
  std::cerr << "dingle: " << problem.message << (problem.hint.empty() ? "" : "\n  = " + problem.hint) << "\n";
  return kFoundProblems;
}

void print_destinations(const Client& client, const SpoolReport& r) {
  std::vector<Json> rows;
  r.state.state.each_with_prefix("destination/", [&](std::string_view key, std::string_view value) {
    const auto id = static_cast<std::uint32_t>(std::strtoul(std::string(value).c_str(), nullptr, 10));
    auto cursor = r.state.cursors.find(id);
    auto w = r.waiting.find(id);
    const SpoolReport::Waiting waiting = w == r.waiting.end() ? SpoolReport::Waiting{} : w->second;
    rows.push_back({{"destination", key.substr(key.find('/') + 1)},
                    {"cursor", cursor == r.state.cursors.end() ? 0 : cursor->second.number},
                    {"events", waiting.events},
                    {"records", waiting.records},
                    {"bytes", waiting.bytes}});
  });
  print_rows(client,
             {{"destination", "DESTINATION"},
              {"cursor", "DONE UP TO", Look::count},
              {"events", "EVENTS WAIT", Look::count},
              {"records", "IN RECORDS", Look::count},
              {"bytes", "OF", Look::bytes}},
             rows);
}

int look(const Client& client, const std::string& folder, bool verify) {
  auto report = inspect_spool(system_disk(), folder);
  if (!report) return refused(report.problem());
  const int status = report->damaged() ? kFoundProblems : kFine;
  if (!verify || client.output != OutputForm::table) {
    std::vector<Json> rows;
    for (const auto& s : report->segments)
      rows.push_back({{"segment", s.name},
                      {"epoch", s.epoch},
                      {"bytes", s.bytes},
                      {"records", s.records},
                      {"first", s.first},
                      {"last", s.last},
                      {"damaged_bytes", s.damaged_bytes},
                      {"problem", s.problem}});
    print_rows(client,
               {{"segment", "SEGMENT"},
                {"epoch", "EPOCH", Look::count},
                {"bytes", "BYTES", Look::bytes},
                {"records", "RECORDS", Look::count},
                {"first", "FIRST", Look::count},
                {"last", "LAST", Look::count},
                {"damaged_bytes", "DAMAGED", Look::bytes, true},
                {"problem", "PROBLEM"}},
               rows);
  }
  if (client.output != OutputForm::table) return status;
  if (!verify) {
    std::cout << "\n";
    print_destinations(client, *report);
    std::cout << "\n"
              << report->batches << " batches (" << report->compressed << " compressed), " << report->notes
              << " notes, " << report->snapshots << " snapshots\n";
  }
  if (report->torn_bytes != 0)
    std::cout << "the last " << report->torn_bytes
              << " bytes are of a write that was cut off; dingled removes them when it starts\n";
  if (status == kFine) {
    std::cout << paint(client, "1;32", "whole: ") << report->batches + report->notes + report->snapshots
              << " records, every checksum is right\n";
    return kFine;
  }
  for (const auto& s : report->segments)
    if (!s.problem.empty() || s.damaged_bytes != 0)
      std::cout << paint(client, "1;31", "damaged: ") << s.name << ": "
                << (s.problem.empty() ? format_size(s.damaged_bytes) + " cannot be read" : s.problem) << "\n";
  std::cout << report->missing_records
            << " records are missing; the others can still be delivered: dingle spool repair\n";
  return status;
}

int repair(const std::string& folder) {
  auto before = inspect_spool(system_disk(), folder);
  if (!before) return refused(before.problem());
  // Segments without a header hold nothing that can be read: they are put aside, not deleted.
  for (const auto& s : before->segments)
    if (!s.problem.empty()) {
      std::filesystem::rename(folder + "/" + s.name, folder + "/" + s.name + ".damaged");
      std::cout << s.name << ": put aside as " << s.name << ".damaged\n";
    }
  // Opening does the rest: it cuts torn ends off, passes over what is damaged, and begins with a new
  // snapshot.
  auto spool = Spool::open(system_disk(), {.folder = folder});
  if (!spool) return refused(spool.problem());
  const Spool::Recovery& r = (*spool)->recovery();
  std::cout << "repaired: " << r.damaged_records << " damaged records are passed over, " << r.cut_bytes
            << " bytes of unfinished writes are cut off; what is left can be delivered\n";
  return kFine;
}

const CommandRegistration spool_command(
    "spool", "Looks at the queue on disk while dingled does not run; verifies and repairs it",
    "dingle spool verify --data /var/lib/dingle", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      const Arguments verify =
          app.command("verify", "Checks every record; the exit status says whether all is whole",
                      "dingle spool verify --data /var/lib/dingle");
      const Arguments mend = app.command("repair", "Makes what is left of a damaged spool usable again",
                                         "dingle spool repair --data /var/lib/dingle");
      return [=](Client& client) {
        const std::string folder = client.data + "/spool";
        if (in_use(folder)) {
          std::cerr << "dingle: the spool " << folder
                    << " is in use: stop dingled first, or ask it with `dingle status`\n";
          return kFoundProblems;
        }
        if (mend.given()) return repair(folder);
        return look(client, folder, verify.given());
      };
    });

}  // namespace
}  // namespace dingle
