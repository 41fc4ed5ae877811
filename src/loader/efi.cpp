// SPDX-License-Identifier: MIT
// EFI applications by what they are.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/pe.hpp>
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
std::optional<LoaderRun> run_shim(const Machine& machine, const Volume& volume, const std::string& path, const ByteSource& shim, const EfiPolicy* policy) {
    const std::string directory = path.substr(0, path.rfind('/'));
    constexpr std::uint16_t i386 = 0x014C;
    const auto image = inspect_pe(shim);
    const std::string name = image && image->machine == i386 ? "grubia32.efi" : "grubx64.efi";
    const std::string second = directory + "/" + name;
    const auto file = loader::refer(volume, name, second, 0);
    if (!file.found()) {
        LoaderRun out;
        std::string shown = second;
        std::ranges::replace(shown, '/', '\\');
        loader::stop(out, Stage::Loader, "shim-second-stage-missing", fmt::format("shim starts {}:{}, which is not there", volume.place, second),
                     {evidence_place(file.place, "a file", *file.error)},
                     fmt::format("Failed to open {} - Not Found\nFailed to load image {}: Not Found\nstart_image() returned Not Found", shown, shown));
        return out;
    }
    std::optional<ImageTrust> trust;
    EfiPolicy own;
    if (policy != nullptr) {
        trust = shim_trust(shim, *policy->trust, *policy->variables);
        own = {&*trust, policy->variables, true};
        if (const auto own_fault = sbat_refuses(shim, trust->sbat, true)) {
            LoaderRun out;
            loader::stop(out, Stage::Loader, "shim-revoked", fmt::format("shim refuses to go on: {}", *own_fault),
                         {evidence_place(fmt::format("{}:{}", volume.place, path), {}, *own_fault)},
                         "Verifying shim SBAT data failed: Security Policy Violation\nSomething has gone seriously wrong: SBAT self-check failed: Security "
                         "Policy Violation");
            return out;
        }
        const auto source = loader::open_file(file);
        auto why = source ? trust->refuse_by_signature(*source) : std::optional<std::string>("it cannot be read");
        if (!why) why = sbat_refuses(*source, trust->sbat, true);
        if (why) {
            LoaderRun out;
            loader::stop(out, Stage::Loader, "shim-second-stage-refused", fmt::format("shim does not start {}: {}", file.place, *why),
                         {evidence_place(file.place, "a valid signature", *why)}, "Verification failed: (0x1A) Security Violation");
            return out;
        }
    }
    auto run = run_efi_loader(machine, volume, second, policy != nullptr ? &own : nullptr);
    if (!run) return std::nullopt;
    run->route.insert(run->route.begin(), fmt::format("{}:{} (shim)", volume.place, path));
    return run;
}

/// The Windows boot manager's own file, or the fallback file beside its folder (a copy of it).
bool lies_like_windows(const Volume& volume, std::string_view path) {
    std::string small(path);
    std::ranges::transform(small, small.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    if (small == "/efi/microsoft/boot/bootmgfw.efi") return true;
    const auto* fs = loader::plain_view(volume);
    return small == "/efi/boot/bootx64.efi" && fs != nullptr && resolve(*fs, "/EFI/Microsoft/Boot");
}

}  // namespace

std::optional<LoaderRun> run_efi_loader(const Machine& machine, const Volume& volume, const std::string& path, const EfiPolicy* policy) {
    const auto file = loader::refer(volume, path, path, 0);
    const auto source = loader::open_file(file);
    if (!source) return std::nullopt;
    auto kind = identify_efi_application(*source);
    LoaderRun out;
    if (kind == EfiApplication::Unknown && lies_like_windows(volume, path)) {
        // Nothing in the file tells; where it lies does.
        kind = EfiApplication::WindowsBootManager;
        out.loader_state = State::Doubtful;
    }
    switch (kind) {
        case EfiApplication::Grub: out = loader::run_grub_efi(machine, volume, path, *source, policy); break;
        case EfiApplication::SystemdBoot: out = loader::systemd_boot::run(machine, volume, path, policy); break;
        case EfiApplication::WindowsBootManager:
            out.loader_text =
                out.loader_state == State::Doubtful
                    ? fmt::format("{}:{} is taken for the Windows boot manager because of where it lies; its content does not tell", volume.place, path)
                    : fmt::format("the boot manager {}:{} is whole", volume.place, path);
            out.loader_evidence = {evidence_place(file.place, {}, size_text(file.size))};
            loader::windows::read_store(machine, volume, "/EFI/Microsoft/Boot/BCD", true, out);
            break;
        case EfiApplication::Shim: {
            auto run = run_shim(machine, volume, path, *source, policy);
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
