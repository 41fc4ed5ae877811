// SPDX-License-Identifier: MIT
// ldlinux.c32, which every member of the family loads before it can read a configuration.
#pragma once

#include "loader/family.hpp"

namespace herberge::loader::syslinux {

/// The core module of a disc; none: `out` tells why the loader stops. `spoken` is what stands on the screen so far.
std::optional<FileReference> core_module(const Volume& volume, const std::string& spoken, LoaderRun& out);

/// The screen where no file system is found behind `banner` ("SYSLINUX 6.04 EDD"): from release 5 on the loader's words
/// for that go to a console that is not open yet (really started, 6.04).
std::string no_file_system_screen(const std::string& banner);

/// Adds to `out`, whose loader_text names the module, what proves it to be whole: a known build, or a copy that a
/// system on the machine keeps.
void prove_module(const Machine& machine, const FileReference& module, LoaderRun& out);

}  // namespace herberge::loader::syslinux
