// SPDX-License-Identifier: MIT
// Falcon mode: the first program starts the kernel itself, past U-Boot (doc/develop/falcon.rst, common/spl/spl_fat.c,
// spl_ext.c of 2023.01).
#include <fmt/format.h>

#include "loader/uboot/console.hpp"
#include "loader/uboot/falcon.hpp"

namespace herberge::loader::uboot {

namespace {

std::string value_of(const Variables& variables, std::string_view name, std::string_view otherwise) {
    const auto found = variables.find(name);
    return found != variables.end() ? found->second : std::string(otherwise);
}

/// env_get_yesno (env/common.c).
bool is_yes(std::string_view value) {
    return !value.empty() && std::string_view("1yYtT").find(value.front()) != std::string_view::npos;
}

}  // namespace

bool in_falcon_mode(std::string_view first, const Variables& variables) {
    // Its own words tell that it was built so; without a variable of that name the board's code decides, by a key.
    return first.find("boot_os") != std::string_view::npos && is_yes(value_of(variables, "boot_os", ""));
}

std::optional<LoaderRun> start_kernel_at_once(const Machine& machine, const Board& board, std::string_view first,
                                              Variables variables, std::string& note) {
    const bool named = first.find("falcon_args_file") != std::string_view::npos;
    const std::string arguments = named ? value_of(variables, "falcon_args_file", "args") : "args";
    const std::string kernel = named ? value_of(variables, "falcon_image_file", "uImage") : "uImage";
    const std::uint64_t ram = board.ram_at != 0 ? board.ram_at : 0x40000000;
    const std::uint64_t kernel_at = ram + 0x400000, tree_at = ram + 0xF000000;
    // It looks at no checksum of what it starts.
    variables.insert_or_assign("verify", "no");
    variables.erase("bootargs");
    variables.insert_or_assign("falcon", fmt::format("load mmc 0:1 {1:#x} {0}; load mmc 0:1 {3:#x} {2}; bootm {3:#x} - "
                                                     "{1:#x}",
                                                     arguments, tree_at, kernel, kernel_at));
    for (const auto& name : {arguments, kernel}) {
        const auto volume = machine.volume(machine.disks.front().number, 1);
        const FileSystem* fs = volume != nullptr ? files_of(*volume) : nullptr;
        if (fs != nullptr && resolve(*fs, "/" + name)) continue;
        note = fmt::format(
            "; the first program may start a kernel itself (boot_os), finds no {} on the first partition, and goes on "
            "with U-Boot",
            printable(name));
        return std::nullopt;
    }
    auto outcome = Console(machine, board, std::move(variables), false, Build{}).boot("falcon");
    auto menu = std::move(outcome.started);
    if (!menu && !outcome.troubles.empty()) menu = std::move(outcome.troubles.back().menu);
    if (!menu) {
        note = fmt::format("; the first program may start {} itself (boot_os), and cannot: it goes on with U-Boot",
                           printable(kernel));
        return std::nullopt;
    }
    LoaderRun out;
    out.name = "the first program";
    out.menu = std::move(*menu);
    out.menu.loader = out.name;
    out.menu.place = fmt::format("d{}p1:/{}", machine.disks.front().number, arguments);
    for (auto& entry : out.menu.direct) {
        entry.place = out.menu.place;
        entry.line = 0;
        entry.title = kernel;
    }
    out.loader_text = fmt::format("it starts {} itself, past U-Boot: boot_os says so (falcon mode)", printable(kernel));
    out.configuration_text = fmt::format("what the kernel is told lies in {}", out.menu.place);
    for (auto& finding : outcome.findings) out.findings.push_back(std::move(finding));
    return out;
}

}  // namespace herberge::loader::uboot
