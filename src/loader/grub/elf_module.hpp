// SPDX-License-Identifier: MIT
// GRUB modules: relocatable ELF files (grub-core/kern/dl.c).
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include <herberge/error.hpp>

namespace herberge::grub {

struct Module {
    std::string name;
    std::vector<std::string> depends;
    std::vector<std::string> defines;  ///< global symbols
    std::vector<std::string> needs;    ///< undefined symbols
    /// What may be the name of a command: texts of at most 24 characters of those that such names are of.
    std::vector<std::string> words;
    /// Of a file system driver: the bits of incompatible features that it lets pass; none: its code does not tell.
    std::optional<std::uint32_t> features;
};

/// Reads a module as grub_dl_load_core does; the Error's `what` is GRUB's own message without "error: ". `platform`:
/// GRUB's own name for what it is made for ("i386-pc", "arm64-efi").
Result<Module> read_module(std::span<const std::uint8_t> file, std::string_view platform = "i386-pc");

}  // namespace herberge::grub
