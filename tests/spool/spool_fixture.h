// A spool on a disk of the test's, and what the tests of it share.
#pragma once

#include <gtest/gtest.h>

#include "spool/spool.h"
#include "tests/spool/faulty_disk.h"

namespace dingle {

using namespace std::chrono_literals;

class SpoolTest : public testing::Test {
 protected:
  FaultyDisk disk;
  SpoolSettings settings{.folder = "spool"};
  std::unique_ptr<Spool> spool;

  void open() {
    spool.reset();
    auto opened = Spool::open(disk, settings);
    ASSERT_TRUE(opened) << opened.problem().message;
    spool = std::move(*opened);
  }
  // One event for each of the destinations, with a checkpoint and a counter.
  int append(const std::string& events, std::vector<std::uint32_t> destinations) {
    Spool::Append a;
    a.events = events;
    a.changes.state.push_back({"checkpoint", events, false});
    a.changes.counters.push_back({spool->counter_id("lines"), 1});
    for (std::uint32_t d : destinations) a.destinations.emplace_back(d, 1);
    return spool->append(a);
  }
  // Gives a destination's id to another name. An errno value.
  int rename(const std::string& from, const std::string& to) {
    Spool::Naming naming;
    naming.destinations = {{to, from}};
    return spool->name(naming);
  }
  std::vector<std::string> read_all(std::uint32_t destination, std::uint64_t after) {
    std::vector<std::string> all;
    Spool::Read read;
    if (settings.sync != SpoolSync::os) spool->wait_durable(1s);  // in vain where syncing fails
    while (spool->read(destination, after, 0ms, read)) {
      all.emplace_back(read.batch.events);
      after = read.number.number;
      last = after;
    }
    return all;
  }
  std::uint64_t last = 0;

  // Turns one bit in every copy of the text that a segment holds.
  void damage(const std::string& text) {
    std::lock_guard lock(disk.mutex);
    for (auto& [path, inode] : disk.files)
      if (std::size_t at = inode->now.rfind(text); at != std::string::npos) inode->now[at] ^= 1;
  }
  void forget() {
    spool.reset();
    disk.files.clear(), disk.durable_names.clear();
  }
};

}  // namespace dingle
