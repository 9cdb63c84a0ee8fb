// Recovery of a spool: a segment whose payloads come from the input, then damaged as the input says; or the
// input itself.
#include "spool/spool.h"

#include <cstdlib>

#include "core/bytes.h"
#include "spool/events.h"
#include "tests/spool/faulty_disk.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  if (size < 2) return 0;
  std::string_view input(reinterpret_cast<const char*>(data), size);
  ByteReader r(input.substr(1));
  std::string segment;
  if (input[0] & 1) {
    segment = encode_segment_header({7, 1, 3, 1, input[0] & 2 ? size / 2 : 0});
    for (std::uint64_t number = 1; r.left() > 2 && number < 50; ++number) {
      const unsigned head = r.u8();
      if (head % 11 == 0) ++number;  // a gap
      segment += encode_record(static_cast<RecordType>(1 + head % 3), number, head & 64 ? number - 1 : 0,
                               r.bytes(std::min<std::size_t>(r.u8(), r.left())), head & 32 ? 1 : head % 3);
      if (head & 128 && !segment.empty())
        segment[segment.size() - 1 - head % std::min<std::size_t>(segment.size(), 60)] ^= 1;
    }
  } else {
    segment = input.substr(1);
  }
  FaultyDisk disk;
  auto inode = std::make_shared<FaultyDisk::Inode>();
  inode->now = inode->durable = segment;
  disk.files["spool/segment-0000000000000001.log"] = inode;
  std::uint64_t appended = 0;
  for (int round = 0; round < 2; ++round) {  // what was recovered once must be recoverable again
    auto spool = Spool::open(disk, {.folder = "spool", .sync = SpoolSync::os});
    if (!spool) return 0;
    const std::uint32_t id = (*spool)->destination("d");
    Spool::Read read;
    std::vector<SpooledEvent> events;
    for (std::uint64_t after = 0; (*spool)->read(id, after, std::chrono::nanoseconds(0), read);
         after = read.number.number) {
      EventDecoder decoder;
      decoder.decode(read.batch.events, 0, events);
      events.clear();
    }
    (*spool)->view();
    const std::uint64_t now = (*spool)->waiting(id).appended;
    if (round == 1 && now != appended) std::abort();
    appended = now;
  }
  return 0;
}
