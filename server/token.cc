#include "server/token.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <fstream>

#include "server/tokens.h"
#include "spool/whole_file.h"

namespace dingle {

std::string token_of(const std::string& data, std::string* problem) {
  const std::string path = data + "/token";
  struct stat info;
  if (::stat(path.c_str(), &info) == 0) {
    if (info.st_mode & 077) {
      *problem = path + " can be read by others: chmod 600 it, or delete it to get a new one";
      return "";
    }
    std::ifstream in(path);
    std::string token;
    in >> token;
    if (token.size() >= 32) return token;
    *problem = path + " holds no token: delete it to get a new one";
    return "";
  }
  const std::string token = random_token();
  if (token.empty()) {
    *problem = "the system gives no random bytes for a token";
    return "";
  }
  bool full = false;
  *problem = write_for_clients(data, "token", token, &full);
  return problem->empty() || full ? token : "";
}

std::string write_for_clients(const std::string& data, const std::string& name, const std::string& text,
                              bool* full) {
  const std::string path = data + "/" + name;
  const int error = write_whole(path, text + "\n", 0600);
  *full = error == ENOSPC || error == EDQUOT;
  return error == 0 ? "" : "cannot write " + path + ": " + std::strerror(error);
}

}  // namespace dingle
