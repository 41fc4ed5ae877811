// SPDX-License-Identifier: MIT
// Boot options against the disks at hand.
#include "walk/efi_options.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <herberge/chain.hpp>

namespace herberge::walk {

namespace {

/// Number and identifier must both fit; start and size need not.
bool matches(const DevicePathNode& node, const Volume& volume, const Machine& view) {
    const Disk* disk = view.disk(volume.disk);
    if (disk == nullptr || static_cast<int>(*node.partition) != volume.partition) return false;
    if (disk->table.kind == TableKind::Gpt) return lower_text(node.signature) == lower_text(volume.partuuid);
    return node.signature == fmt::format("{:08x}", disk->table.disk_signature);
}

}  // namespace

std::string option_name(const UefiBootOption& option) {
    return fmt::format("Boot{:04X} “{}”", option.number, option.description);
}

OptionFiles files_of_option(const UefiBootOption& option, const UefiVolumes& seen, EfiMachine machine) {
    OptionFiles out;
    std::string file;
    const DevicePathNode* drive = nullptr;
    bool other = false;
    for (const auto& node : option.path.nodes) {
        if (node.file) file += (file.empty() || node.file->starts_with('\\') ? "" : "\\") + *node.file;
        else if (node.partition) drive = &node;
        else if (node.type == 3) other = true;
    }
    out.path = file;
    std::ranges::replace(out.path, '\\', '/');
    if (out.path.empty()) out.path = efi_fallback_path(machine);
    if (!out.path.starts_with('/')) out.path.insert(out.path.begin(), '/');
    if (!option.whole || !option.path.whole) {
        out.problem = option_name(option) + " has a damaged device path";
        return out;
    }
    // A path is compared as it stands: only backslashes separate directories.
    if (file.find('/') != std::string::npos) {
        out.problem = option_name(option) + " writes its path with forward slashes";
        return out;
    }
    for (const auto& volume : seen.volumes)
        if (drive != nullptr ? matches(*drive, *volume, seen.view) : !file.empty() && !other)
            out.volumes.push_back(volume);
    if (out.volumes.empty())
        out.problem =
            fmt::format("{} names {}, and nothing here answers to that", option_name(option), option.path.text());
    return out;
}

}  // namespace herberge::walk

namespace herberge {

std::vector<BootOptionState> inspect_boot_options(const Machine& machine, const UefiVariables& variables,
                                                  EfiMachine kind) {
    const auto seen = uefi_volumes(machine);
    std::vector<BootOptionState> out;
    for (auto& option : boot_options(variables)) {
        BootOptionState state;
        const auto files = walk::files_of_option(option, seen, kind);
        state.problem = files.problem;
        for (const auto& volume : files.volumes) {
            const std::string place = fmt::format("{}:{}", volume->place, files.path);
            const FileSystem* fs = volume->files(Observer::Uefi);
            const auto found = fs != nullptr ? resolve(*fs, files.path) : fail(ErrorKind::NotFound, "no file system");
            const auto source = found ? fs->open(found->file.id, place) : tl::unexpected(found.error());
            if (!source) {
                state.problem = fmt::format("{} is not there", place);
                continue;
            }
            state.place = place;
            const auto refused = refuse_efi_image(**source, kind);
            state.problem = refused ? refused->why : std::string{};
            state.application = identify_efi_application(**source);
            if (!refused) break;
        }
        state.option = std::move(option);
        out.push_back(std::move(state));
    }
    return out;
}

}  // namespace herberge
