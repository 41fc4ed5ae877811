// SPDX-License-Identifier: MIT
// The configuration of the SYSLINUX family.
#pragma once

#include "loader/family.hpp"

namespace herberge::loader::syslinux {

/// Looks for the configuration from `directory` on as the loader does, interprets it and tries its entries.
void read_menu(const Machine& machine, const Volume& volume, const std::string& directory, const std::string& banner,
               LoaderRun& out);

/// The same on an optical disc: in the usual directories, and isolinux.cfg comes first.
void read_disc_menu(const Machine& machine, const Volume& volume, const std::string& banner, LoaderRun& out);

/// Interprets one configuration file; `depth` counts menus that other menus read. `directory`: where names without a
/// stroke are looked for; empty: in the file's own.
Menu read_config(const Machine& machine, const Volume& volume, const std::string& path, LoaderRun& out, int depth = 0,
                 std::string directory = {});

}  // namespace herberge::loader::syslinux
