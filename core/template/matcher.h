// The runners that exist; program.h's runners() answers those that this processor can use.
#pragma once

#include "core/template/program.h"

namespace dingle {

extern const Runner portable_runner;
extern const Runner avx2_runner;  // nullptr on other processors than x86-64

}  // namespace dingle
