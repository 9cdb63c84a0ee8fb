// Files of SQLite in which every page has a checksum: a bit that turned at rest is an error, never another value.
//
// A VFS over the system's (sqlite.org/vfs.html). The last eight bytes of each page, which SQLite leaves alone (byte 20 of the
// header, "reserved space", is 8), hold the XXH3 of the others, seeded with the page's offset, so that a page that stands in
// another one's place is noticed, too. It is put there when a page is written to the database and checked when it is read from
// there. The log beside a database (WAL) has checksums of SQLite's own, by which what is damaged in it counts as never written.
//
// A page that differs is SQLITE_IOERR_DATA. Other programs read these files as any other; what they write is damaged for us.
#pragma once

namespace dingle {

// The VFS's name, which is registered once. Connections that write give new files their reserved bytes.
const char* checked_vfs();
inline constexpr int kPageChecksum = 8;  // bytes

}  // namespace dingle
