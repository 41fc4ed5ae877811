// SPDX-License-Identifier: MIT
// EFI applications by what they are.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/uefi.hpp>

#include "loader/family.hpp"

namespace herberge {

namespace {

/// A kernel that the firmware starts directly: its options would come from the boot option.
LoaderRun run_stub(const Volume& volume, const std::string& path) {
    LoaderRun out;
    out.menu.loader = "EFI stub";
    out.menu.place = fmt::format("{}:{}", volume.place, path);
    MenuEntry entry;
    entry.title = path;
    entry.place = out.menu.place;
    entry.kind = EntryKind::Linux;
    entry.efi_stub = true;
    entry.kernel = {loader::refer(volume, path, path, 0)};
    entry.kernel_loaded = entry.kernel.front().found();
    entry.path = {0};
    out.menu.entries.push_back(std::move(entry));
    out.menu.timeout = 0;
    out.loader_text = "the kernel's own EFI stub";
    out.configuration_text = "the boot option's own text is the command line";
    return out;
}

/// shim starts its second stage from its own directory.
std::optional<LoaderRun> run_shim(const Machine& machine, const Volume& volume, const std::string& path) {
    const std::string directory = path.substr(0, path.rfind('/'));
    const std::string second = directory + "/grubx64.efi";
    const auto file = loader::refer(volume, "grubx64.efi", second, 0);
    if (!file.found()) {
        LoaderRun out;
        std::string shown = second;
        std::ranges::replace(shown, '/', '\\');
        loader::stop(out, Stage::Loader, "shim-second-stage-missing", fmt::format("shim starts {}:{}, which is not there", volume.place, second),
                     {evidence_place(file.place, "a file", *file.error)},
                     fmt::format("Failed to open {} - Not Found\nFailed to load image {}: Not Found\nstart_image() returned Not Found", shown, shown));
        return out;
    }
    auto run = run_efi_loader(machine, volume, second);
    if (!run) return std::nullopt;
    run->route.insert(run->route.begin(), fmt::format("{}:{} (shim)", volume.place, path));
    return run;
}

}  // namespace

std::optional<LoaderRun> run_efi_loader(const Machine& machine, const Volume& volume, const std::string& path) {
    const auto file = loader::refer(volume, path, path, 0);
    const auto source = loader::open_file(file);
    if (!source) return std::nullopt;
    const auto kind = identify_efi_application(*source);
    LoaderRun out;
    switch (kind) {
        case EfiApplication::Grub: out = loader::run_grub_efi(machine, volume, path, *source); break;
        case EfiApplication::SystemdBoot: out = loader::systemd_boot::run(machine, volume, path); break;
        case EfiApplication::WindowsBootManager:
            out.loader_text = fmt::format("the boot manager {}:{} is whole", volume.place, path);
            out.loader_evidence = {evidence_place(file.place, {}, size_text(file.size))};
            loader::windows::read_store(machine, volume, "/EFI/Microsoft/Boot/BCD", true, out);
            break;
        case EfiApplication::Shim: {
            auto run = run_shim(machine, volume, path);
            if (run) run->name = run->name.empty() ? "shim" : run->name;
            return run;
        }
        case EfiApplication::LinuxStub: out = run_stub(volume, path); break;
        default: return std::nullopt;
    }
    out.name = efi_application_name(kind);
    out.route.insert(out.route.begin(), fmt::format("{}:{} ({})", volume.place, path, out.name));
    return out;
}

}  // namespace herberge
