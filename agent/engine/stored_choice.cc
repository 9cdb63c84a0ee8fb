#include "agent/engine/stored_choice.h"

#include <chrono>
#include <thread>

namespace dingle {

using namespace std::chrono_literals;

Query StoredChoice::query(const Engine& engine) const {
  const TableScope tables(engine.configuration()->tables_by_name);
  Query query;
  if (!where.empty()) query.where = *Condition::parse(where);
  query.from = from;
  query.to = to;
  query.indexes = indexes;
  query.oldest = true;
  return query;
}

bool wait_until(const std::function<bool()>& holds, const std::function<bool()>& ends) {
  while (!holds()) {
    if (ends()) return false;
    std::this_thread::sleep_for(5ms);
  }
  return true;
}

bool wait_until_passed(Spool& spool, std::uint32_t destination, const std::function<bool()>& ends) {
  const std::uint64_t last = spool.last_record();
  return wait_until([&] { return spool.wait_durable(100ms); }, ends) &&
         wait_until([&] { return spool.has_passed(destination, last); }, ends);
}

bool is_newer(const EventOrder& order, const LogNumber& start, const Spool& spool) {
  return order.spool == spool.identity().spool_id && LogNumber{order.epoch, order.number} > start;
}

}  // namespace dingle
