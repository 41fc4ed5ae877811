// SPDX-License-Identifier: MIT
// EFI applications by what they are.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/uefi.hpp>

#include "bytes/lost.hpp"
#include "bytes/text16.hpp"
#include "firmware/fat_blocks.hpp"
#include "loader/family.hpp"
#include "loader/unified_image.hpp"

namespace herberge {

namespace {

constexpr int most_depth = 8;

/// A path of UEFI's as one of ours.
std::string slashes(std::string_view path) {
    std::string out(path);
    std::ranges::replace(out, '\\', '/');
    return out.starts_with('/') ? out : fmt::format("/{}", out);
}

std::string backslashes(std::string_view path) {
    std::string out(path);
    std::ranges::replace(out, '/', '\\');
    return out;
}

/// A kernel that is started directly: the starter's text is its command line. Its stub reads the RAM disks that
/// "initrd=" names from the volume it came from, in order (drivers/firmware/efi/libstub/file.c).
LoaderRun run_stub(const Volume& volume, const std::string& path, const EfiContext& context) {
    LoaderRun out;
    out.menu.loader = "EFI stub";
    out.menu.place = fmt::format("{}:{}", volume.place, path);
    MenuEntry entry;
    entry.title = path;
    entry.place = out.menu.place;
    entry.kind = EntryKind::Linux;
    entry.started_by = KernelEntry::Efi;
    entry.arguments = context.options;
    entry.kernel = {loader::refer(volume, path, path, 0)};
    entry.kernel_loaded = entry.kernel.front().found();
    entry.path = {0};
    constexpr std::string_view option = "initrd=";
    for (std::size_t at = context.options.find(option); at != std::string::npos;
         at = context.options.find(option, at + 1)) {
        if (at != 0 && context.options[at - 1] != ' ') continue;
        const std::size_t begin = at + option.size();
        const std::string written =
            context.options.substr(begin, std::min(context.options.find(' ', begin), context.options.size()) - begin);
        auto file = loader::refer(volume, written, slashes(written), 0);
        if (!file.found() && !entry.stop) {
            entry.messages.push_back(
                {fmt::format("EFI stub: ERROR: Failed to open file: {}", written), entry.place, 0});
            loader::stop(entry, Code::RamdiskMissing,
                         fmt::format("the RAM disk {} is not on {}: the stub gives up, and the kernel does not start",
                                     written, volume.place));
        }
        entry.ramdisks.push_back(std::move(file));
    }
    out.menu.entries.push_back(std::move(entry));
    out.menu.timeout = 0;
    out.loader_text = "the kernel's own EFI stub";
    out.configuration_text = context.options.empty() ? "no text was handed to it: its own command line counts"
                                                     : "the boot option's own text is the command line";
    return out;
}

/// A unified image that is started directly: its stub is the whole loader.
std::optional<LoaderRun> run_unified(const Volume& volume, const std::string& path, const EfiContext& context) {
    auto image = loader::read_unified(volume, path, context.firmware);
    if (!image) return std::nullopt;
    LoaderRun out;
    out.menu.loader = "EFI stub";
    out.menu.place = image->file.place;
    auto arguments = loader::unified_arguments(*image, context);
    const bool handed_over = arguments != image->entry.arguments;
    image->entry.arguments = std::move(arguments);
    image->entry.title = image->title.empty() ? path : image->title;
    image->entry.path = {0};
    out.menu.entries.push_back(std::move(image->entry));
    out.menu.timeout = 0;
    out.loader_text = "the unified image's own EFI stub";
    out.configuration_text = handed_over ? "the boot option's own text is the command line"
                                         : "the command line is the one in the image (section .cmdline)";
    return out;
}

std::string_view architecture_suffix(EfiMachine machine) { return efi_machine(machine).suffix; }

/// What shim starts, as a path on its volume: a name that its load option gives (shim.c, parse_load_options), else its
/// built-in one, from its own directory.
std::string second_stage(const std::string& path, const EfiContext& context) {
    const std::string directory = path.substr(0, path.rfind('/'));
    std::string name = fmt::format("grub{}.efi", architecture_suffix(context.firmware));
    // Started by removable media's rule, the option is the firmware's own, and not for shim.
    if (!efi_is_fallback_place(path) && !context.options.empty()) {
        std::string_view rest = context.options;
        const auto word = [&rest] {
            rest.remove_prefix(std::min(rest.find_first_not_of(' '), rest.size()));
            const std::string_view out = rest.substr(0, rest.find(' '));
            rest.remove_prefix(out.size());
            return std::string(out);
        };
        std::string first = word();
        // A shell hands over the program's own name first.
        const std::string own = lower_text(path.substr(path.rfind('/') + 1));
        if (lower_text(first).ends_with(own)) first = word();
        if (!first.empty()) name = first;
    }
    // "\\EFI\\" at the start is a path from the volume's root; any other one is beside shim.
    if (name.starts_with("\\EFI\\")) return slashes(name);
    return directory + slashes(name);
}

struct ShimRefusal {
    std::string why;
    std::string_view message, status;
};
/// What shim's own loader makes of an image before it asks who signed it (shim 15, read_header).
std::optional<ShimRefusal> bad_for_shim(const ByteSource& file, EfiMachine firmware) {
    const auto image = inspect_pe(file);
    if (!image && image.error().unreadable()) return std::nullopt;
    if (!image || image->machine != efi_machine(firmware).image)
        return ShimRefusal{image ? fmt::format("it is for {}", pe_machine_name(image->machine)) : image.error().what,
                           "Platform does not support this image", "Unsupported"};
    if (image->certificates_offset > file.size() ||
        (image->certificates_offset == file.size() && image->certificates_size > 0))
        return ShimRefusal{"its signature would lie behind its end", "Malformed security header", "Invalid Parameter"};
    return std::nullopt;
}

LoaderRun shim_stops(Code code, std::string reason, std::vector<Evidence> evidence, std::string screen) {
    LoaderRun out;
    loader::stop(out, code, std::move(reason), std::move(evidence), std::move(screen));
    // shim.c: what cannot be found ends its main function; a revoked shim and its helper switch off or start over.
    out.returns = code == Code::ShimSecondStageMissing;
    return out;
}

/// What is started is there and may run; what it does is not known.
LoaderRun undecoded(const Volume& volume, const std::string& path) {
    LoaderRun out;
    const std::string place = fmt::format("{}:{}", volume.place, path);
    out.undecoded = true;
    out.route = {place};
    out.loader_text = fmt::format("{} is no loader that is decoded here", place);
    out.loader_evidence = {evidence_place(place)};
    return out;
}

/// The program beside a shim in the fallback directory: it makes boot options from the lists it finds in the other
/// directories below /EFI, and starts the first one (shim's fallback.c, find_boot_csv).
std::optional<LoaderRun> run_fallback(const Machine& machine, const Volume& volume, const std::string& path,
                                      const EfiContext& context) {
    const auto* fs = loader::plain_view(volume);
    const auto top = fs != nullptr ? resolve(*fs, "/EFI") : fail(ErrorKind::NotFound, "none");
    const auto names = top ? fs->list(top->file.id) : fail(ErrorKind::NotFound, "none");
    std::string upper(architecture_suffix(context.firmware));
    std::ranges::transform(upper, upper.begin(),
                           [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; });
    std::vector<std::string> looked;
    if (names)
        for (const auto& directory : *names) {
            if (directory.type != FileType::Directory || directory.name.starts_with('.') ||
                lower_text(directory.name) == "boot")
                continue;
            for (const std::string& list : {fmt::format("BOOT{}.CSV", upper), std::string("BOOT.CSV")}) {
                const std::string file = fmt::format("/EFI/{}/{}", directory.name, list);
                const auto found = resolve(*fs, file);
                const auto source = found ? fs->open(found->file.id, file) : fail(ErrorKind::NotFound, "none");
                if (!source) continue;
                looked.push_back(file);
                const auto bytes = (*source)->bytes(0, (*source)->size(), 65536);
                if (!bytes) break;
                // UTF-16 with a mark at its start: file, title, text for the program, comment.
                std::span<const std::uint8_t> text(*bytes);
                if (text.size() >= 2 && text[0] == 0xFF && text[1] == 0xFE) text = text.subspan(2);
                const std::string lines = utf8_from(units_from(text));
                const std::string line = lines.substr(0, lines.find_first_of("\r\n"));
                const auto comma = line.find(',');
                if (comma == std::string::npos || comma == 0) break;
                const std::string program = fmt::format("/EFI/{}{}", directory.name, slashes(line.substr(0, comma)));
                if (!resolve(*fs, program)) break;
                EfiContext next = context;
                ++next.depth;
                const auto title_end = line.find(',', comma + 1);
                next.options = title_end == std::string::npos
                                   ? std::string()
                                   : line.substr(title_end + 1, line.find(',', title_end + 1) - title_end - 1);
                auto run = run_efi_loader(machine, volume, program, next);
                if (!run) run = undecoded(volume, program);
                run->route.insert(run->route.begin(), fmt::format("{}:{} (first line)", volume.place, file));
                run->findings.push_back(make_finding(
                    Code::ShimFallback,
                    fmt::format("{}:{} makes a boot option of {} and starts it; with a TPM it resets the machine first",
                                volume.place, path, program),
                    {evidence_line(fmt::format("{}:{}", volume.place, file), 1, {}, printable(line))}));
                return run;
            }
        }
    return shim_stops(
        Code::ShimFallbackNothing,
        fmt::format("{}:{} finds no list of boot options that leads to a file (BOOT{}.CSV in a directory below /EFI)",
                    volume.place, path, upper),
        {evidence_place(fmt::format("{}:/EFI", volume.place), "a list of boot options",
                        looked.empty() ? "none" : looked.front())},
        "Reset System");
}

/// shim starts its second stage from its own directory.
std::optional<LoaderRun> run_shim(const Machine& machine, const Volume& volume, const std::string& path,
                                  const ByteSource& shim, const EfiContext& context) {
    std::string second = second_stage(path, context);
    bool fallback = false;
    if (efi_is_fallback_place(path)) {
        const std::string helper =
            fmt::format("{}/fb{}.efi", path.substr(0, path.rfind('/')), architecture_suffix(context.firmware));
        if (loader::refer(volume, helper, helper, 0).found()) {
            second = helper;
            fallback = true;
        }
    }
    auto file = loader::refer(volume, second.substr(second.rfind('/') + 1), second, 0);
    std::optional<Finding> instead;
    const std::string builtin = second_stage(path, {context.firmware, nullptr, nullptr, false, {}, 0});
    if (!file.found() && !fallback && second != builtin) {
        // A name that leads nowhere gives way to the built-in one.
        instead = make_finding(
            Code::ShimDefaultInstead,
            fmt::format("shim is told to start {}, which is not there, and falls back to {}", file.place, builtin),
            {evidence_place(file.place, "a file", *file.error)});
        second = builtin;
        file = loader::refer(volume, second.substr(second.rfind('/') + 1), second, 0);
    }
    const std::string shown = backslashes(second);
    if (!file.found())
        return shim_stops(
            Code::ShimSecondStageMissing, fmt::format("shim starts {}:{}, which is not there", volume.place, second),
            {evidence_place(file.place, "a file", *file.error)},
            fmt::format(
                "Failed to open {} - Not Found\nFailed to load image {}: Not Found\nstart_image() returned Not Found",
                shown, shown));
    const auto source = loader::open_file(file);
    const auto head = source != nullptr ? source->bytes(0, std::min<std::uint64_t>(source->size(), 512))
                                        : fail(ErrorKind::Malformed, "it cannot be read", file.place);
    if (!head) {
        // The firmware's FAT driver finds the chain of its clusters broken, or the medium gives nothing.
        const std::string_view status = head.error().unreadable() ? "Device Error" : "Volume Corrupt";
        return shim_stops(Code::ShimSecondStageRefused,
                          fmt::format("shim does not start {}: {}", file.place, head.error().what),
                          {evidence_error(head.error())},
                          fmt::format("Failed to open {} - {}\nFailed to load image {}: {}\nstart_image() returned {}",
                                      shown, status, shown, status, status));
    }
    if (const auto lost = lost_within(*source))
        return shim_stops(Code::ShimSecondStageRefused,
                          fmt::format("shim does not start {}, which cannot be read: {}", file.place, lost->what),
                          {evidence_error(*lost)},
                          fmt::format("Unexpected return from initial read: Device Error, buffersize …\n"
                                      "Failed to load image {}: Device Error\nstart_image() returned Device Error",
                                      shown));
    if (const auto bad = bad_for_shim(*source, context.firmware))
        return shim_stops(
            Code::ShimSecondStageRefused, fmt::format("shim does not start {}: {}", file.place, bad->why),
            {evidence_place(file.place, "an image that shim can load", bad->why)},
            fmt::format("{}\nFailed to read header: {}\nFailed to load image: {}\nstart_image() returned {}",
                        bad->message, bad->status, bad->status, bad->status));
    std::optional<ImageTrust> trust;
    EfiContext own = context;
    own.options.clear();
    own.shim = true;
    ++own.depth;
    if (context.trust != nullptr) {
        trust = shim_trust(shim, *context.trust, *context.variables);
        own.trust = &*trust;
        if (const auto own_fault = sbat_refuses(shim, trust->sbat, true))
            return shim_stops(Code::ShimRevoked, fmt::format("shim refuses to go on: {}", *own_fault),
                              {evidence_place(fmt::format("{}:{}", volume.place, path), {}, *own_fault)},
                              "Verifying shim SBAT data failed: Security Policy Violation\nSomething has gone "
                              "seriously wrong: SBAT self-check failed: Security "
                              "Policy Violation");
        auto why = trust->refuse_by_signature(*source);
        if (!why) why = sbat_refuses(*source, trust->sbat, true);
        if (why) {
            auto out =
                shim_stops(Code::ShimSecondStageRefused, fmt::format("shim does not start {}: {}", file.place, *why),
                           {evidence_place(file.place, "a valid signature", *why)},
                           "Verification failed: (0x1A) Security Violation");
            // Its key manager comes up where it is there; else it goes back to the firmware.
            const std::string manager =
                fmt::format("{}/mm{}.efi", path.substr(0, path.rfind('/')), architecture_suffix(context.firmware));
            out.returns = !loader::refer(volume, manager, manager, 0).found();
            return out;
        }
    }
    auto run = fallback ? run_fallback(machine, volume, second, own) : run_efi_loader(machine, volume, second, own);
    if (!run) run = undecoded(volume, second);
    if (const auto lost = lost_beside(volume, second); lost && (!run->stop || run->stop->stage > Stage::Loader)) {
        run->loader_state = State::Unknown;
        run->loader_text += lost_beside_text(second);
        run->loader_evidence.push_back(evidence_error(*lost));
    }
    if (instead) run->findings.push_back(std::move(*instead));
    if (fallback)
        run->route.insert(run->route.begin(), fmt::format("{}:{} (makes boot options)", volume.place, second));
    run->route.insert(run->route.begin(), fmt::format("{}:{} (shim)", volume.place, path));
    return run;
}

/// The Windows boot manager's own file, or the fallback file beside its folder (a copy of it).
bool lies_like_windows(const Volume& volume, std::string_view path) {
    const std::string small = lower_text(path);
    if (small == "/efi/microsoft/boot/bootmgfw.efi") return true;
    const auto* fs = loader::plain_view(volume);
    return efi_is_fallback_place(small) && fs != nullptr && resolve(*fs, "/EFI/Microsoft/Boot");
}

}  // namespace

std::optional<LoaderRun> run_efi_loader(const Machine& machine, const Volume& volume, const std::string& path,
                                        const EfiContext& context) {
    if (context.depth > most_depth)
        return shim_stops(
            Code::LoaderLoop,
            fmt::format("{}:{} is started again: the applications start each other in a circle", volume.place, path),
            {evidence_place(fmt::format("{}:{}", volume.place, path))}, "(the same program comes again and again)");
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
        case EfiApplication::Grub: out = loader::run_grub_efi(machine, volume, path, *source, context); break;
        case EfiApplication::SystemdBoot: out = loader::systemd_boot::run(machine, volume, path, context); break;
        case EfiApplication::WindowsBootManager:
            out.loader_text = out.loader_state == State::Doubtful
                                  ? fmt::format(
                                        "{}:{} is taken for the Windows boot manager because of where it lies; its "
                                        "content does not tell",
                                        volume.place, path)
                                  : fmt::format("the boot manager {}:{} is whole", volume.place, path);
            out.loader_evidence = {evidence_place(file.place, {}, size_text(file.size))};
            loader::windows::read_store(machine, volume, "/EFI/Microsoft/Boot/BCD", true, out);
            break;
        case EfiApplication::Shim: {
            auto run = run_shim(machine, volume, path, *source, context);
            if (run) run->name = run->name.empty() ? "shim" : run->name;
            return run;
        }
        case EfiApplication::LinuxStub: out = run_stub(volume, path, context); break;
        case EfiApplication::UnifiedKernel: {
            auto run = run_unified(volume, path, context);
            if (!run) return std::nullopt;
            out = std::move(*run);
            break;
        }
        default: return std::nullopt;
    }
    out.name = efi_application_name(kind);
    out.route.insert(out.route.begin(), fmt::format("{}:{} ({})", volume.place, path, out.name));
    return out;
}

}  // namespace herberge
