// SPDX-License-Identifier: MIT
// A first program that starts the kernel itself.
#pragma once

#include "loader/uboot/environment.hpp"
#include "loader/uboot/uboot.hpp"

namespace herberge::loader::uboot {

/// Whether the first program, of which these are the bytes, was built with falcon mode, and the environment asks for
/// it.
[[nodiscard]] bool in_falcon_mode(std::string_view first, const Variables& variables);

/// What it starts; none: a file is missing or cannot be started, `note` says so, and it goes on with U-Boot.
[[nodiscard]] std::optional<LoaderRun> start_kernel_at_once(const Machine& machine, const Board& board,
                                                            std::string_view first, Variables variables,
                                                            std::string& note);

}  // namespace herberge::loader::uboot
