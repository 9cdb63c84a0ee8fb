// Functions of shared libraries that are loaded when the first of them is called: a dingled that sends
// nothing to PostgreSQL or over HTTP has neither library, nor the dozen that those need, in its memory.
//
//   #define PQ(name) DINGLE_LATE("libpq.so.5", name)
//   PQ(PQfinish)(connection);
//
// A library that is missing ends the program with a message: packages name it as a dependency.
#pragma once

#include <dlfcn.h>

#include <cstdio>
#include <cstdlib>

namespace dingle {

inline void* late_symbol(const char* library, const char* symbol) {
  void* const loaded = ::dlopen(library, RTLD_NOW | RTLD_GLOBAL);
  void* const found = loaded ? ::dlsym(loaded, symbol) : nullptr;
  if (found) return found;
  std::fprintf(stderr, "dingled: %s\n", ::dlerror());
  std::abort();
}

}  // namespace dingle

#define DINGLE_LATE(library, name)                                                                           \
  ([]() -> decltype(&::name) {                                                                               \
    static const auto function = reinterpret_cast<decltype(&::name)>(::dingle::late_symbol(library, #name)); \
    return function;                                                                                         \
  }())
