// SPDX-License-Identifier: MIT
#include "loader/uboot/uboot.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <charconv>

#include <herberge/flash.hpp>

#include "loader/uboot/console.hpp"
#include "loader/uboot/falcon.hpp"

namespace herberge::loader::uboot {

namespace {

constexpr std::string_view prompt = "(the prompt =>, without a message)";

/// Where its variables come from.
struct Environment {
    Variables variables;
    std::string text;
    std::vector<Evidence> evidence;
    std::vector<Finding> findings;
};

/// What the emulated boards' U-Boot of Debian 12 (2023.01) has built in (include/configs/qemu-arm.h, qemu-riscv.h).
Variables emulated_variables(const Board& board) {
    Variables out = {{"board_name", "qemu-arm"},
                     {"board", "qemu-arm"},
                     {"arch", "arm"},
                     {"vendor", "emulation"},
                     {"baudrate", "115200"},
                     {"bootdelay", "2"},
                     {"fdt_addr", "0x40000000"},
                     {"fdt_high", "0xffffffff"},
                     {"initrd_high", "0xffffffff"},
                     {"kernel_addr_r", "0x40400000"},
                     {"loadaddr", "0x40200000"},
                     {"pxefile_addr_r", "0x40300000"},
                     {"ramdisk_addr_r", "0x44000000"},
                     {"scriptaddr", "0x40200000"},
                     {"cpu", "armv8"},
                     {"boot_targets", "qfw usb0 scsi0 virtio0 nvme0 dhcp"}};
    if (board.processor == Processor::Arm) out["cpu"] = "armv7";
    if (board.processor != Processor::Riscv64) return out;
    out.erase("fdt_addr");
    const Variables risc_v = {{"board_name", "qemu-riscv"},
                              {"board", "qemu-riscv"},
                              {"arch", "riscv"},
                              {"cpu", "generic"},
                              {"fdt_high", "0xffffffffffffffff"},
                              {"initrd_high", "0xffffffffffffffff"},
                              {"kernel_addr_r", "0x84000000"},
                              {"loadaddr", "0x80200000"},
                              {"pxefile_addr_r", "0x8c200000"},
                              {"ramdisk_addr_r", "0x8c300000"},
                              {"scriptaddr", "0x8c100000"},
                              {"fdt_addr_r", "0x8c000000"},
                              {"kernel_comp_addr_r", "0x88000000"},
                              {"kernel_comp_size", "0x4000000"},
                              {"boot_targets", "qemu virtio0 scsi0 dhcp"}};
    for (const auto& [name, value] : risc_v) out.insert_or_assign(name, value);
    return out;
}

/// What a board's own U-Boot has, as far as distributions rely on it (doc/develop/distro.rst). Addresses only have to
/// keep files apart: they lie where such boards have memory.
Variables usual_variables(const Board& board) {
    Variables out = {{"bootcmd", "run distro_bootcmd"},
                     {"boot_prefixes", "/ /boot/"},
                     {"boot_scripts", "boot.scr.uimg boot.scr"},
                     {"boot_script_dhcp", "boot.scr.uimg"},
                     {"boot_syslinux_conf", "extlinux/extlinux.conf"}};
    if (board.medium == "virtio") {
        out.merge(emulated_variables(board));
        return out;
    }
    const std::uint64_t base = board.ram_at != 0 ? board.ram_at : 0x40000000;
    const auto at = [&](std::uint64_t offset) { return fmt::format("{:#x}", base + offset); };
    out.merge(Variables{{"boot_targets", "mmc0 mmc1 usb0 pxe dhcp"},
                        {"scriptaddr", at(0x200000)},
                        {"pxefile_addr_r", at(0x300000)},
                        {"kernel_addr_r", at(0x400000)},
                        {"loadaddr", at(0x400000)},
                        {"ramdisk_addr_r", at(0x10000000)},
                        {"fdt_addr_r", at(0xF000000)}});
    return out;
}

void stored_copy(const ByteSource& source, const StoredVariables& stored, const std::string& where, Environment& out) {
    const auto evidence = evidence_bytes(source, stored.at, 4, "the CRC-32 of what follows",
                                         stored.sound ? std::string{} : std::string("another"));
    if (!stored.sound) {
        out.findings.push_back(
            make_finding(Code::UbootEnvironmentUnused,
                         fmt::format("the environment {} fails its checksum: U-Boot goes on with its own", where),
                         {evidence}, "*** Warning - bad CRC, using default environment"));
        return;
    }
    out.variables = stored.variables;
    out.text = fmt::format("its environment is stored {} ({} variables)", where, stored.variables.size());
    out.evidence = {evidence};
}

/// The file in which a U-Boot for cards keeps its environment (env/fat.c, env/ext4.c), on the first volume that it
/// would take; perhaps with a second copy beside it.
void stored_file(const Machine& machine, const Board& board, Environment& out) {
    if (board.medium != "mmc" || machine.disks.empty()) return;
    const auto read = [](const Volume& volume, const std::string& name) -> std::optional<StoredVariables> {
        const auto source = open_file(refer(volume, name, "/" + name, 0));
        return source != nullptr ? read_stored(*source) : std::nullopt;
    };
    for (const auto& volume : machine.disks.front().volumes) {
        if (files_of(*volume) == nullptr) continue;
        const auto stored = read(*volume, "uboot.env");
        if (stored) {
            const auto second = read(*volume, "uboot-redund.env");
            const auto file = refer(*volume, "uboot.env", "/uboot.env", 0);
            const bool other = second && second->sound && (!stored->sound || newer(*second, *stored));
            const auto source = open_file(other ? refer(*volume, "uboot-redund.env", "/uboot-redund.env", 0) : file);
            stored_copy(*source, other ? *second : *stored,
                        fmt::format("in {}", other ? volume->place + ":/uboot-redund.env" : file.place), out);
        }
        // One on FAT it looks for on the first such volume alone.
        if (stored || volume->as(Observer::Loader).is(Family::Fat)) return;
    }
}

/// The environment on raw flash: in a part that is called so; true: there is such a part.
bool stored_in_flash(const Machine& machine, Environment& out) {
    for (const auto& disk : machine.disks) {
        if (!is_divided_flash(disk)) continue;
        for (const auto& part : disk.table.partitions) {
            const auto name = lower_text(part.name);
            const auto volume = machine.volume(disk.number, part.number);
            if (volume == nullptr || name.find("env") == std::string::npos) continue;
            if (const auto stored = find_stored(*volume->source))
                stored_copy(*volume->source, *stored, fmt::format("in {} ({})", volume->place, printable(part.name)),
                            out);
            else out.text += fmt::format("; {} ({}) holds none", volume->place, printable(part.name));
            return true;
        }
    }
    return false;
}

/// The first 4 MiB of a program as text; empty: they cannot be read.
std::string head_of(const ByteSource& program) {
    constexpr std::uint64_t most = std::uint64_t{4} << 20U;
    const auto bytes = program.bytes(0, std::min(program.size(), most));
    return bytes ? std::string(bytes->begin(), bytes->end()) : std::string{};
}

/// A U-Boot that knows no file for its environment may keep it as it is on the card, between its own end and the first
/// partition (env/mmc.c; where, is built into it).
void stored_on_card(const Machine& machine, const ByteSource& program, Environment& out) {
    const Disk& disk = machine.disks.front();
    const auto own = program.locate(0, program.size());
    std::uint64_t end = std::min<std::uint64_t>(disk.source->size(), std::uint64_t{64} << 20U);
    for (const auto& p : disk.table.partitions)
        if (p.first_lba != 0) end = std::min(end, p.first_lba * disk.table.sector_size);
    const std::uint64_t begin = own.empty() ? 0 : (own.back().offset + own.back().length + 511) / 512 * 512;
    constexpr std::uint64_t page = 4096;
    const std::uint64_t from = (begin + page - 1) / page * page;
    if (own.empty() || from >= end) return;
    const auto gap = slice(disk.source, from, end - from, disk.source->place());
    if (const auto stored = find_stored(*gap))
        stored_copy(*gap, *stored, fmt::format("at byte {} of d{}", from + stored->at, disk.number), out);
}

/// "U-Boot 2023.01+dfsg-2 (…)", as the program itself has it; empty: not found.
std::string version_of(std::string_view program) {
    constexpr std::string_view words = "U-Boot 20";
    const auto at = program.find(words);
    if (at == std::string_view::npos) return {};
    return std::string(
        program.substr(at, std::min<std::size_t>(64, program.find_first_of(std::string_view("\n\0", 2), at) - at)));
}

Environment environment_of(const Machine& machine, const Start& start) {
    Environment out;
    const Board& board = *start.board;
    out.variables = usual_variables(board);
    out.text = "its environment is the one built into it, which is not at hand: the usual search is followed";
    const std::string head = start.program != nullptr ? head_of(*start.program) : std::string{};
    if (start.program != nullptr)
        if (auto own = find_built_in(*start.program, 0, start.program->size()); !own.empty()) {
            out.text = fmt::format("its environment is the one built into it ({} variables)", own.size());
            out.evidence = {evidence_bytes(*start.program, 0, std::min<std::uint64_t>(start.program->size(), 4096))};
            out.variables = std::move(own);
        }
    if (start.flash != nullptr) {
        if (const auto stored = find_stored(*start.flash))
            stored_copy(*start.flash, *stored, fmt::format("in the flash dump {}", start.flash->place()), out);
        else out.text += fmt::format("; the flash dump {} holds none", start.flash->place());
    } else if (stored_in_flash(machine, out)) {
        // Said there.
    } else if (start.program == nullptr || head.find("uboot.env") != std::string::npos) {
        stored_file(machine, board, out);
    } else {
        stored_on_card(machine, *start.program, out);
    }
    // What U-Boot itself sets when it starts from the first card.
    if (board.rom == BoardRom::Egon) out.variables.try_emplace("mmc_bootdev", "0");
    out.variables.try_emplace("fdtcontroladdr", "0xfffff000");
    return out;
}

/// What U-Boot's program says of itself; the emulated boards run Debian 12's.
Build build_of(const Start& start) {
    Build out;
    if (start.program == nullptr) {
        out.emulated = start.board->medium == "virtio";
        if (out.emulated) out.version = "U-Boot 2023.01";
        out.overlays = out.android = !out.emulated;
        out.plain_names = out.emulated;
        return out;
    }
    auto head = head_of(*start.program);
    out.version = version_of(head);
    if (out.version.empty()) return out;  // packed
    out.overlays = head.find("fdt_overlay_apply") != std::string::npos;
    out.android = head.find("ANDROID!") != std::string::npos;
    out.plain_names = head.find("Signature checking prevents use of unit addresses") != std::string::npos;
    if (out.plain_names) out.keys = find_image_keys(*start.program);
    out.program = std::move(head);
    return out;
}

/// The places of what a U-Boot would start from, on a volume.
std::optional<std::string> startable_file(const Volume& volume, const Variables& variables) {
    const FileSystem* fs = files_of(volume);
    if (fs == nullptr) return std::nullopt;
    const auto of = [&](std::string_view name, std::string_view otherwise) {
        const auto found = variables.find(name);
        return found != variables.end() ? found->second : std::string(otherwise);
    };
    std::vector<std::string> names = {of("boot_syslinux_conf", "extlinux/extlinux.conf")};
    for (auto& script : words_of(of("boot_scripts", "boot.scr.uimg boot.scr"))) names.push_back(std::move(script));
    for (const std::string prefix : {"/", "/boot/"})
        for (const auto& name : names)
            if (resolve(*fs, prefix + name)) return prefix + name;
    return std::nullopt;
}

/// U-Boot came to its prompt without a word: which of the things that it looks at was not there?
Finding nothing_found(const Machine& machine, const Board& board, const Variables& variables,
                      const std::vector<Evidence>& looked_at) {
    const Disk& disk = machine.disks.front();
    const auto missing = std::ranges::find(disk.table.findings, Code::GptProtectiveMissing, &Finding::code);
    if (missing != disk.table.findings.end())
        return make_finding(Code::UbootNoPartition,
                            fmt::format("U-Boot does not see the GPT of d{}: {}", disk.number, missing->text),
                            missing->evidence, std::string(prompt));
    const auto gpt = disk.source->bytes(disk.table.sector_size, 8);
    if (disk.table.kind == TableKind::Mbr && gpt && std::equal(gpt->begin(), gpt->end(), "EFI PART"))
        return make_finding(
            Code::UbootNoPartition,
            fmt::format("U-Boot does not see the GPT of d{}: no entry of type EE from sector 1 on protects it",
                        disk.number),
            {evidence_bytes(*disk.source, 446, 64, "an entry of type EE", "none"),
             evidence_bytes(*disk.source, 512, 8)},
            std::string(prompt));
    if (disk.table.partitions.empty())
        return make_finding(Code::UbootNoPartition, fmt::format("U-Boot sees no partition on d{}", disk.number),
                            {evidence_bytes(*disk.source, disk.table.kind == TableKind::Gpt ? 512 : 446, 64,
                                            "a partition table", "none")},
                            disk.table.kind == TableKind::Gpt
                                ? "** Invalid partition 1 **"
                                : fmt::format("** No partition table - {} 0 **", board.medium));
    auto tried = bootable(disk);
    if (tried.empty()) tried.push_back(1);
    std::vector<std::string> places, unread, lost;
    for (const int number : tried) {
        places.push_back(fmt::format("d{}p{}", disk.number, number));
        const auto volume = machine.volume(disk.number, number);
        if (volume != nullptr && files_of(*volume) == nullptr) {
            const auto problem = volume->problem(Observer::Loader);
            (problem && problem->unreadable() ? lost : unread).push_back(places.back());
        }
    }
    for (const auto& volume : disk.volumes) {
        if (std::ranges::find(tried, volume->partition) != tried.end()) continue;
        const auto file = startable_file(*volume, variables);
        if (!file) continue;
        return make_finding(
            Code::UbootNotMarked,
            fmt::format("{}:{} is there, but U-Boot looks at {} only: {}", volume->place, *file,
                        fmt::join(places, ", "),
                        tried == std::vector<int>{1} ? "no partition is marked bootable, or the first one is"
                                                     : "those are marked bootable"),
            {evidence_place(volume->place, "marked bootable", "not marked"),
             evidence_place(volume->place + ":" + *file)},
            std::string(prompt));
    }
    if (!lost.empty())
        return make_finding(
            Code::UbootNothingFound, fmt::format("U-Boot looks at {}, which cannot be read", fmt::join(lost, ", ")),
            {evidence_place(lost.front(), "readable sectors", "the medium does not give them")}, std::string(prompt));
    if (!unread.empty())
        return make_finding(
            Code::UbootNothingFound,
            fmt::format("U-Boot looks at {}, and recognises no file system there", fmt::join(unread, ", ")),
            {evidence_place(unread.front(), "a file system that U-Boot reads", "none")}, std::string(prompt));
    auto evidence = looked_at;
    constexpr std::size_t most = 8;
    if (evidence.size() > most) evidence.resize(most);
    if (evidence.empty()) evidence.push_back(evidence_place(places.front()));
    return make_finding(Code::UbootNothingFound,
                        fmt::format("{} {} no configuration, script or EFI application for U-Boot",
                                    fmt::join(places, ", "), places.size() == 1 ? "has" : "have"),
                        std::move(evidence), std::string(prompt));
}

/// The counter of starts that nobody called good (doc/README.bootcount): true when it is through, and altbootcmd runs.
bool start_counter(const Variables& variables, LoaderRun& out) {
    const auto number = [&](std::string_view name) -> std::uint64_t {
        const auto found = variables.find(name);
        std::uint64_t value = 0;
        if (found != variables.end())
            std::from_chars(found->second.data(), found->second.data() + found->second.size(), value);
        return value;
    };
    const auto limit = number("bootlimit");
    if (limit == 0 || number("upgrade_available") == 0) return false;
    // It counts this start before it compares.
    const auto count = number("bootcount") + 1;
    const bool through = count > limit;
    out.loader_text += fmt::format("; this is start {} of at most {} since an update that nobody called good: {}",
                                   count, limit, through ? "altbootcmd runs in bootcmd's place" : "bootcmd runs");
    return through;
}

}  // namespace

LoaderRun run(const Machine& machine, const Start& asked) {
    LoaderRun out;
    Start start = asked;
    // A dump of the flash may hold U-Boot itself.
    if (start.program == nullptr && start.flash != nullptr && !version_of(head_of(*start.flash)).empty())
        start.program = start.flash;
    out.name = "U-Boot";
    const Board& board = *start.board;
    auto environment = environment_of(machine, start);
    out.findings = environment.findings;
    out.loader_text = environment.text;
    out.loader_evidence = environment.evidence;
    if (out.loader_evidence.empty()) out.loader_evidence = {evidence_place("U-Boot's environment")};
    const bool native = !environment.variables.contains("distro_bootcmd");
    const auto variables = environment.variables;
    if (const auto first = start.first != nullptr ? head_of(*start.first) : std::string{};
        in_falcon_mode(first, variables)) {
        std::string note;
        if (auto started = start_kernel_at_once(machine, board, first, variables, note)) {
            started->loader_evidence = out.loader_evidence;
            started->findings.insert(started->findings.begin(), out.findings.begin(), out.findings.end());
            return *started;
        }
        out.loader_text += note;
    }
    const bool counted_out = start_counter(variables, out);
    auto outcome = Console(machine, board, std::move(environment.variables), native, build_of(start))
                       .boot(counted_out ? "altbootcmd" : "bootcmd");
    for (auto& finding : outcome.findings) out.findings.push_back(std::move(finding));
    if (outcome.started) {
        out.menu = std::move(*outcome.started);
        out.configuration_text = fmt::format("U-Boot starts from {}", out.menu.place);
        return out;
    }
    // What went furthest tells why, but for what ended the machine.
    const Trouble* furthest = nullptr;
    for (const auto& trouble : outcome.troubles)
        if (furthest == nullptr || trouble.why.stage > furthest->why.stage) furthest = &trouble;
    if (outcome.dead) furthest = &outcome.troubles.back();
    if (furthest != nullptr && !furthest->blind.empty()) {
        out.stop = untold(Stage::Configuration, furthest->why.text, furthest->why.evidence);
        return out;
    }
    if (furthest != nullptr && furthest->menu) {
        out.menu = *furthest->menu;
        out.configuration_text = fmt::format("U-Boot reads {}", out.menu.place);
        return out;
    }
    Finding why = furthest != nullptr ? furthest->why : nothing_found(machine, board, variables, outcome.looked_at);
    if (!outcome.unfollowed.empty() && furthest == nullptr) {
        out.stop =
            untold(Stage::Configuration,
                   fmt::format("its commands use {}, which is not followed here", fmt::join(outcome.unfollowed, ", ")),
                   why.evidence);
        return out;
    }
    // What the firmware of a PC would refuse, U-Boot refuses while it looks for something to start.
    const Stage stage = why.stage == Stage::BootCode ? Stage::Configuration : why.stage;
    out.stop = broken(std::move(why), stage);
    return out;
}

}  // namespace herberge::loader::uboot
