// SPDX-License-Identifier: MIT
// A RAM disk that is told to stop on its way to the root.
#pragma once

#include <herberge/system.hpp>

namespace herberge {

/// Adds to the claim about a RAM disk what a word of the command line asks of it: a shell at one of its own points
/// ("break=premount", "rd.break"; initramfs-tools(7), dracut.cmdline(7), mkinitcpio(8)). Where panic= keeps people from
/// the console, initramfs-tools starts the machine anew, or halts it, in place of a shell.
void judge_asked_shell(const Ramdisk& ramdisk, const CommandLine& arguments, Claim& claim);

}  // namespace herberge
