// The files that a source read in earlier runs: which open file is one of them, and where the others lie now.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "agent/sources/tracked_file.h"
#include "spool/spool.h"

namespace dingle {

// For the thread of its source; the spool outlives it.
class KnownFiles {
 public:
  KnownFiles(Spool& spool, std::string source, const FileAccess& access = system_file_access());

  // replaced: the inode was known, with other contents; what was read of those stands in `lost`. unknown: what it holds cannot be
  // read now, so it is not to be read either.
  enum class Known { no, yes, replaced, unknown };
  // Yes: the file's checkpoint is set, and its contents were verified. File systems without hardware of their
  // own get another device number with each mount, and disks may change places: then a file is known by its
  // inode and its contents, and what was kept moves to its new number.
  Known recognise(TrackedFile& file);

  // Files that were renamed while nobody looked, and that no path may lead to any more, still hold lines to
  // be read. They are looked for by their inodes in the folders where they were last seen, where symbolic
  // links led to, and then in `elsewhere`, which is asked for once, if at all. What is not there is forgotten and answered in `gone`,
  // unless a folder could not be looked at, or another file system may be mounted there later.
  // An inode alone says nothing: only what still holds what was read is taken, under a path for which `may_be_read` is true.
  // `open` opens a path and recognises the file, or answers nullptr.
  using Open = std::function<std::unique_ptr<TrackedFile>(const std::string& path)>;
  using MayBeRead = std::function<bool(const std::string& path, const FileCheckpoint& kept)>;
  struct Found {
    std::vector<std::unique_ptr<TrackedFile>> files;
    std::vector<FileCheckpoint> gone;  // what was read of them
  };
  using Folders = std::function<std::vector<std::string>()>;  // with their final slash
  Found find(const Open& open, const MayBeRead& may_be_read, const Folders& elsewhere);

 private:
  struct Earlier {
    std::string id;  // device and inode
    FileCheckpoint checkpoint;
  };
  void forget(const std::string& id);
  bool note_read(const FileCheckpoint& read);  // false: the spool cannot be written
  Spool& spool_;
  const std::string source_, prefix_;  // prefix: of the state's keys; a file's device and inode follow it
  const FileAccess& access_;
  std::multimap<std::uint64_t, Earlier> earlier_;  // by inode: those that were not seen in this run
};

}  // namespace dingle
