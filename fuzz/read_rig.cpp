// SPDX-License-Identifier: GPL-3.0-or-later
// Any bytes as a rig file: they are refused with a message, or run for two frames. Build with
// cmake -DCMAKE_CXX_COMPILER=clang++ -DCALM_FUZZ=ON, then bin/fuzz_read_rig corpus demos/joints.
#include <cstddef>
#include <cstdint>
#include <string>

#include "rig/file.h"
#include "run/compile.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  try {
    const calm::rig::Rig rig = calm::rig::parseRig(std::string(reinterpret_cast<const char*>(data), size), "fuzz");
    calm::run::CompiledRig run = calm::run::compile(rig);
    if (rig.parts.size() > 50 || rig.stage.substeps > 50) return 0;
    run.step();
    run.step();
  } catch (const calm::rig::FileError&) {
  } catch (const calm::run::CompileError&) {
  }
  return 0;
}
