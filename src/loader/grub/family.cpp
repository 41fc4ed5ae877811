// SPDX-License-Identifier: MIT
// GRUB 2 as one loader among others.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "loader/family.hpp"
#include "loader/grub/installed.hpp"

namespace herberge::loader {

namespace {

std::string join_lines(const std::vector<std::string>& lines) {
    constexpr std::size_t most = 8;
    const auto from = lines.size() > most ? lines.end() - static_cast<std::ptrdiff_t>(most) : lines.begin();
    return fmt::format("{}", fmt::join(from, lines.end(), "\n"));
}

std::size_t count_entries(const std::vector<MenuEntry>& entries) {
    std::size_t count = 0;
    for (const auto& entry : entries) count += entry.kind == EntryKind::Submenu ? count_entries(entry.children) : 1;
    return count;
}

void core_stops(Finding problem, const GrubBoot& boot, LoaderRun& out) {
    out.first_sector_text = fmt::format("GRUB 2 boot code, which loads sector {}", boot.core_sector);
    out.stop = broken(std::move(problem));
}

/// The files of GRUB lie on a partition that the table no longer leads to.
std::optional<Finding> table_is_to_blame(const Finding& stop, const Disk& disk) {
    if (stop.code != Code::GrubPrefixFileSystem && stop.code != Code::GrubPrefixDevice) return std::nullopt;
    const auto lost = find_misplaced_volume(disk);
    if (!lost) return std::nullopt;
    return make_finding(
        Code::PartitionEntryMisplaced,
        fmt::format("{}; a file system ({}, UUID {}) begins at sector {}, where no partition does", stop.text,
                    lost->info.name(), lost->info.uuid, lost->lba),
        {evidence_bytes(*disk.source, 446, 64, fmt::format("a partition from sector {} on", lost->lba), "none"),
         {DiskRange{disk.number, lost->lba * 512 + 1024, 1024}, {}, {}, {}, lost->info.name()}});
}

/// What a GRUB has done, in the form all loaders share.
void take_run(GrubRun run, const GrubCore& core, const Disk* disk, LoaderRun& out) {
    out.loader_state = core.repaired_bytes > 0 ? State::Doubtful : State::Holds;
    out.loader_text =
        core.repaired_bytes > 0
            ? fmt::format("the core image is damaged, but repairs itself ({} bytes); its modules are sound",
                          core.repaired_bytes)
            : fmt::format("the core image unpacks, and its modules in {} are sound", run.prefix_place);
    out.loader_evidence.push_back(
        Evidence{core.ranges.empty() ? std::nullopt : std::optional(core.ranges.back()),
                 core.ranges.empty() ? "GRUB image" : "",
                 {},
                 {},
                 fmt::format("{} unpacked, modules {}, prefix {}", size_text(core.kernel.size()),
                             fmt::join(core.modules, " "), core.prefix)});
    out.loader_evidence.insert(out.loader_evidence.end(), run.loader_evidence.begin(), run.loader_evidence.end());
    out.findings = core.findings;
    out.menu = std::move(run.menu);
    if (run.stop && run.stop->state == State::Unknown) {
        out.stop = std::move(run.stop);
        out.loader_text = "the core image unpacks";
        return;
    }
    if (run.stop) {
        auto stop = std::move(run.stop->findings.front());
        if (disk != nullptr)
            if (auto blamed = table_is_to_blame(stop, *disk)) stop = std::move(*blamed);
        stop.symptom = join_lines(run.screen);
        out.stop = broken(std::move(stop));
        return;
    }
    const Menu& menu = out.menu;
    const std::size_t count = count_entries(menu.entries);
    out.configuration_text = menu.boots_without_menu
                                 ? fmt::format("{} starts a kernel by itself", menu.place)
                                 : fmt::format("{} gives {} entr{}", menu.place, count, count == 1 ? "y" : "ies");
    if (!menu.timeout && !menu.boots_without_menu)
        out.configuration_text += "; it has no timeout: the menu waits until a key is pressed";
    const auto syntax = std::ranges::find_if(
        menu.messages, [](const LoaderMessage& m) { return m.kind == LoaderMessage::Kind::Syntax; });
    if (syntax != menu.messages.end())
        out.findings.push_back(
            make_finding(Code::GrubConfigPartlyLost,
                         fmt::format("{} has a syntax error noticed in line {}; what surrounds it is dropped",
                                     syntax->place, syntax->line),
                         {evidence_line(syntax->place, syntax->line, {}, syntax->text)}, syntax->text));
}

}  // namespace

LoaderRun run_grub_at(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    const auto sector = place.disk->source->bytes(place.lba * 512, 512);
    auto boot = sector ? recognise_grub_boot(*sector) : std::nullopt;
    if (!boot) return out;
    boot->sector = place.lba;
    out.route.push_back(fmt::format("{}: GRUB 2 boot code", place.text()));
    out.next_sector = boot->core_sector;
    if (boot->damage && !place.seen_working) {
        stop(out, Code::BootCodeDamaged, boot->damage->what,
             {place.evidence(0, 3, boot->damage->expected, boot->damage->found)},
             "(nothing: the screen stays as the firmware left it)");
        return out;
    }
    const auto core = read_grub_core(*place.disk, *boot);
    if (!core) {
        core_stops(core.error(), *boot, out);
        return out;
    }
    out.first_sector_text =
        fmt::format("GRUB 2 boot code, which loads its core image from sector {}", boot->core_sector);
    out.route.push_back(fmt::format("GRUB core image at d{}@{}", place.disk->number, core->first_sector * 512));
    auto run = run_grub(machine, *core, place.first_drive);
    const auto compared = grub::compare_installed(machine, *core, run.prefix_volume, run.prefix_path);
    out.must_load = core->ranges;
    out.differing = compared.differing;
    out.unpacked = std::make_shared<const std::vector<std::uint8_t>>(core->kernel);
    out.unpacked_at = 0x100000;  // include/grub/i386/pc/memory.h: GRUB_MEMORY_MACHINE_DECOMPRESSION_ADDR
    take_run(std::move(run), *core, place.disk, out);
    if (!compared.with.empty() && compared.differing.empty())
        out.loader_evidence.push_back(
            evidence_place(place.text(), {}, fmt::format("its start-up code is that of {}", compared.with)));
    return out;
}

LoaderRun run_grub_disc(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    out.route.push_back(fmt::format("{}: GRUB 2 boot image", place.text()));
    out.first_sector_text = "GRUB 2's boot image for discs, which loads the core image behind it";
    const auto core = read_grub_disc_core(*place.disk, place.lba * 512);
    if (!core) {
        out.stop = broken(core.error());
        return out;
    }
    // Its first sector is for disks; the code behind it is what is entered.
    out.next_sector = core->first_sector + 1;
    out.route.push_back(fmt::format("GRUB core image at d{}@{}", place.disk->number, core->first_sector * 512));
    take_run(run_grub(machine, *core, place.first_drive), *core, nullptr, out);
    return out;
}

LoaderRun run_grub_efi(const Machine& machine, const Volume& volume, const std::string& path, const ByteSource& source,
                       const EfiContext& context) {
    LoaderRun out;
    auto core = read_grub_efi(source);
    if (!core) {
        stop(out, Code::GrubEfiImage,
             fmt::format("the GRUB image {}:{} carries no modules that could be read: {}", volume.place, path,
                         core.error().what),
             {evidence_error(core.error())}, "");
        return out;
    }
    core->disk = volume.disk;
    if (volume.partition != 0) core->started_from = volume.shared_from_this();
    core->command_path = path.substr(0, path.rfind('/'));
    KernelVerifier verifier;
    // Only with shim's protocol can it have a kernel verified.
    if (context.shim)
        verifier = [&context](const ByteSource& kernel) {
            return context.trust != nullptr ? context.trust->refuse(kernel) : std::nullopt;
        };
    take_run(run_grub(machine, *core, 0, verifier), *core, machine.disk(volume.disk), out);
    return out;
}

std::vector<Menu> grub_configurations(const Machine& machine, const Volume& volume) {
    std::vector<Menu> out;
    for (const std::string path :
         {"/boot/grub/grub.cfg", "/grub/grub.cfg", "/boot/grub2/grub.cfg", "/grub2/grub.cfg"}) {
        if (!resolve(*plain_view(volume), path)) continue;
        auto run = read_grub_config(machine, volume, path);
        out.push_back(std::move(run.menu));
    }
    return out;
}

}  // namespace herberge::loader
