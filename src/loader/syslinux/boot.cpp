// SPDX-License-Identifier: MIT
// The SYSLINUX family on disks: boot sector, block-mapped second stage, its core module (core/diskstart.inc,
// core/diskboot.inc, core/elflink/load_env32.c of 6.04).
#include <fmt/format.h>
#include <algorithm>

#include <herberge/artifact.hpp>

#include "artifact/pkcs7.hpp"
#include "bytes/lost.hpp"
#include "loader/family.hpp"
#include "loader/syslinux/config.hpp"
#include "loader/syslinux/core_module.hpp"
#include "loader/syslinux/second_stage.hpp"
#include "ondisk/syslinux.hpp"

namespace herberge::loader::syslinux {

namespace {

constexpr std::uint64_t sector_size = 512;

}  // namespace

/// The code loads EAX and EDX with the sector number, sets BX to 8000h and later compares the dword at 801Ch.
std::optional<BootSector> read_boot_sector(std::span<const std::uint8_t> sector) {
    for (std::size_t at = 0x3E; at + 15 < 510; ++at) {
        if (sector[at] != 0x66 || sector[at + 1] != 0xB8 || sector[at + 6] != 0x66 || sector[at + 7] != 0xBA ||
            sector[at + 12] != 0xBB || sector[at + 13] != 0x00 || sector[at + 14] != 0x80)
            continue;
        BootSector out;
        out.first = ondisk::from_bytes<ondisk::little_uint32_t>(sector, at + 2) |
                    std::uint64_t{ondisk::from_bytes<ondisk::little_uint32_t>(sector, at + 8)} << 32U;
        out.pointer_at = at + 2;
        out.upper_at = at + 8;
        for (std::size_t compare = at; compare + 9 < 510; ++compare)
            if (sector[compare] == 0x66 && sector[compare + 1] == 0x81 && sector[compare + 2] == 0x3E &&
                sector[compare + 4] == 0x80) {
                out.instance = ondisk::from_bytes<ondisk::little_uint32_t>(sector, compare + 5);
                return out;
            }
    }
    return std::nullopt;
}

namespace {

/// The second stage as the sectors that the code reads give it.
struct SecondStage {
    std::vector<std::uint8_t> bytes;
    std::vector<DiskRange> ranges;
    ondisk::SyslinuxPatch patch{};
    std::string directory;
    std::string banner;
};

}  // namespace

std::optional<std::size_t> find_patch(std::span<const std::uint8_t> first, std::uint32_t instance) {
    for (std::size_t at = 0; at + sizeof(ondisk::SyslinuxPatch) <= first.size(); at += 4) {
        const auto patch = ondisk::from_bytes<ondisk::SyslinuxPatch>(first, at);
        if (patch.magic == patch_magic && patch.instance == instance) return at;
    }
    return std::nullopt;
}

/// The code keeps a pointer to the list as "lea esi, [list]" (66 8D 36 …): 8000h is the file's start.
std::optional<std::size_t> find_extents(std::span<const std::uint8_t> first) {
    for (std::size_t at = 0; at + 5 < first.size(); ++at) {
        if (first[at] != 0x66 || first[at + 1] != 0x8D || first[at + 2] != 0x36) continue;
        const std::size_t list = ondisk::from_bytes<ondisk::little_uint16_t>(first, at + 3) - std::size_t{0x8000};
        if (list < first.size()) return list;
    }
    return std::nullopt;
}

namespace {

std::string text_at(std::span<const std::uint8_t> bytes, std::size_t at, std::size_t most) {
    std::string out;
    for (std::size_t i = at; i < bytes.size() && i < at + most && bytes[i] != 0; ++i)
        out += static_cast<char>(bytes[i]);
    return printable(out);
}

class Reader {
public:
    Reader(const BootPlace& place, const BootSector& boot, LoaderRun& out) : place_(place), boot_(boot), out_(out) {}

    std::optional<SecondStage> read() {
        SecondStage stage;
        if (!add(stage, boot_.first, 1)) {
            stop(out_, Code::SyslinuxUnreadable,
                 fmt::format("sector {} of the volume, where ldlinux.sys should begin, cannot be read", boot_.first),
                 {pointer()}, "Boot error");
            return std::nullopt;
        }
        const auto patch_at = find_patch(stage.bytes, boot_.instance);
        if (!patch_at) {
            stop(out_, Code::SyslinuxSecondStageGone,
                 fmt::format(
                     "sector {} of the volume, where the boot sector looks for ldlinux.sys, holds something else",
                     boot_.first),
                 {pointer(), Evidence{stage.ranges.front(),
                                      {},
                                      {},
                                      fmt::format("the first sector of ldlinux.sys, build {:08x}", boot_.instance),
                                      "something else"}},
                 "Boot error");
            return std::nullopt;
        }
        stage.patch = ondisk::from_bytes<ondisk::SyslinuxPatch>(stage.bytes, *patch_at);
        stage.banner = text_at(stage.bytes, 2, 24);
        const std::uint64_t wanted = stage.patch.data_sectors;
        const std::string failed = fmt::format("{}EDD Load error - Boot error", stage.banner);
        if (wanted == 0 || wanted > most_sectors) {
            broken(stage, fmt::format("ldlinux.sys claims {} sectors", wanted), failed);
            return std::nullopt;
        }
        // The list begins in the first sector and goes on in what its own first extents load.
        const auto list = find_extents(stage.bytes);
        for (std::size_t at = list.value_or(stage.bytes.size());
             at + sizeof(ondisk::SyslinuxExtent) <= stage.bytes.size(); at += sizeof(ondisk::SyslinuxExtent)) {
            const std::uint64_t have = stage.bytes.size() / sector_size;
            const auto extent = ondisk::from_bytes<ondisk::SyslinuxExtent>(stage.bytes, at);
            if (have >= wanted || extent.sectors == 0) break;
            if (!add(stage, extent.lba, std::min<std::uint64_t>(extent.sectors, wanted - have))) {
                stop(out_, Code::SyslinuxUnreadable,
                     fmt::format("sectors of ldlinux.sys (from sector {} of the volume) cannot be read",
                                 std::uint64_t{extent.lba}),
                     {Evidence{DiskRange{place_.disk->number, (place_.lba + extent.lba) * sector_size,
                                         extent.sectors * sector_size},
                               {},
                               {},
                               "sectors that can be read",
                               "unreadable"}},
                     fmt::format("{}EDDBoot error", stage.banner));
                return std::nullopt;
            }
        }
        if (stage.bytes.size() < wanted * sector_size || stage.bytes.size() / 4 < stage.patch.dwords) {
            broken(stage, "the list of sectors in ldlinux.sys ends too early", failed);
            return std::nullopt;
        }
        std::uint32_t sum = 0;
        for (std::size_t i = 0; i < stage.patch.dwords; ++i)
            sum += ondisk::from_bytes<ondisk::little_uint32_t>(stage.bytes, i * 4);
        if (sum != patch_magic) {
            broken(stage, "ldlinux.sys fails the checksum that its own first sector computes", failed);
            return std::nullopt;
        }
        const auto extended = ondisk::from_bytes<ondisk::SyslinuxExtended>(stage.bytes, stage.patch.extended_offset);
        stage.directory =
            text_at(stage.bytes, extended.directory_offset, std::min<std::size_t>(extended.directory_length, 512));
        if (!stage.directory.starts_with('/')) stage.directory = "/" + stage.directory;
        return stage;
    }

private:
    [[nodiscard]] Evidence pointer() const {
        return place_.evidence(boot_.pointer_at, 4, {}, fmt::format("sector {}", boot_.first));
    }

    bool add(SecondStage& stage, std::uint64_t lba, std::uint64_t sectors) {
        const auto& disk = *place_.disk->source;
        const std::uint64_t all = disk.size() / sector_size;
        if (lba > all || place_.lba + lba + sectors > all) return false;
        const auto bytes = disk.bytes((place_.lba + lba) * sector_size, sectors * sector_size);
        if (!bytes) return false;
        stage.bytes.insert(stage.bytes.end(), bytes->begin(), bytes->end());
        stage.ranges.push_back({place_.disk->number, (place_.lba + lba) * sector_size, sectors * sector_size});
        return true;
    }

    void broken(const SecondStage& stage, std::string what, std::string screen) {
        stop(out_, Code::SyslinuxSecondStageDamaged, std::move(what), {Evidence{stage.ranges.back(), {}, {}, {}, {}}},
             std::move(screen));
    }

    const BootPlace& place_;
    const BootSector& boot_;
    LoaderRun& out_;
};

/// The core module lies beside ldlinux.sys or in one of the usual directories.
std::optional<FileReference> find_core_module(const Volume& volume, const std::string& directory,
                                              std::string* unread = nullptr) {
    for (const std::string& where : {directory, std::string("/boot/isolinux"), std::string("/isolinux"),
                                     std::string("/boot/syslinux"), std::string("/syslinux"), std::string("/")}) {
        auto file = refer(volume, "ldlinux.c32", (where == "/" ? "" : where) + "/ldlinux.c32", 0);
        if (file.found()) return file;
        if (file.unreadable() && unread != nullptr && unread->empty()) *unread = file.error.value_or("");
    }
    return std::nullopt;
}

/// Builds of ldlinux.c32 by their digest: the module carries no checksum of its own.
struct KnownModule {
    std::string_view sha256, name;
};
constexpr KnownModule known_modules[] = {
    {"087ab8d6fba4beb6ff0043b66c7199f31f2e4080e0ebd487798f9f5395c7794e",
     "6.04 as Debian's extlinux and syslinux 6.04~git20190206 install it"},
    {"26cbd44c3a3dacbf3971cfbc04db539da07767fa00797f505044e2f68dcfae89",
     "6.04 as Debian's syslinux-common 6.04~git20190206 has it"},
};

std::string judge_module(const FileReference& file) {
    const auto source = open_file(file);
    if (!source) return "it cannot be read";
    const auto start = source->bytes(0, std::min<std::uint64_t>(source->size(), 52));
    if (!start && start.error().unreadable()) return "it cannot be read";
    if (!start || !looks_like_elf(*start)) return "it is no ELF module";
    const auto elf = inspect_elf(*source);
    if (!elf && elf.error().unreadable()) return "it cannot be read";
    if (!elf || elf->bits != 32 || elf->machine != 3) return "it is no 32-bit x86 ELF module";
    if (!elf->complete) return "it is cut short";
    return {};
}

std::optional<FileReference> usable_core_module(const Volume& volume, const std::string& directory,
                                                const std::string& screen, LoaderRun& out) {
    std::string unread;
    auto module = find_core_module(volume, directory, &unread);
    if (!module && !unread.empty()) {
        stop(out, Code::SyslinuxCoreModuleMissing,
             fmt::format("whether ldlinux.c32 is in {} cannot be read", directory),
             {evidence_place(fmt::format("{}:{}/ldlinux.c32", volume.place, directory == "/" ? "" : directory),
                             "readable sectors", unread)},
             // Where even less can be read, it stands still.
             screen.substr(0, screen.find('\n')) + "\n(Failed to load ldlinux.c32, or nothing more)");
        return std::nullopt;
    }
    if (!module) {
        stop(out, Code::SyslinuxCoreModuleMissing,
             fmt::format("ldlinux.c32 is neither in {} nor in the usual directories", directory),
             {evidence_place(fmt::format("{}:{}/ldlinux.c32", volume.place, directory == "/" ? "" : directory),
                             "a file", "absent")},
             screen);
        return std::nullopt;
    }
    if (const auto why = judge_module(*module); !why.empty()) {
        stop(out, Code::SyslinuxCoreModuleDamaged, fmt::format("{} cannot be loaded: {}", module->place, why),
             {evidence_place(module->place, {}, why)}, screen);
        return std::nullopt;
    }
    return module;
}

}  // namespace

void prove_module(const Machine& machine, const FileReference& module, LoaderRun& out) {
    constexpr std::uint64_t most = std::uint64_t{1} << 20U;
    const auto source = open_file(module);
    const auto bytes = source ? source->bytes(0, source->size(), most) : fail(ErrorKind::NotFound, {});
    if (!bytes) return;
    auto proven = [&](std::string by) {
        out.parts_proven = true;
        out.loader_text += fmt::format(" and is byte by byte {}", by);
        out.loader_evidence.push_back(evidence_place(module.place, {}, std::move(by)));
    };
    const auto digest = pkcs7::sha256_of(*bytes);
    const auto* known = std::ranges::find(known_modules, std::string_view(digest), &KnownModule::sha256);
    if (known != std::end(known_modules)) {
        proven(std::string(known->name));
        return;
    }
    // The package's own copy, on a system that lies on one of the disks.
    machine.each_volume([&](const Volume& volume) {
        for (const char* path : {"/usr/lib/syslinux/modules/bios/ldlinux.c32", "/usr/share/syslinux/ldlinux.c32",
                                 "/usr/lib/syslinux/bios/ldlinux.c32"}) {
            if (out.parts_proven || plain_view(volume) == nullptr) return;
            const auto file = refer(volume, path, path, 0);
            const auto copy = file.size == bytes->size() ? open_file(file) : nullptr;
            const auto same = copy != nullptr && file.place != module.place ? copy->bytes(0, copy->size(), most)
                                                                            : fail(ErrorKind::NotFound, {});
            if (same && *same == *bytes) proven("the package's own, " + file.place);
        }
    });
}

namespace {

/// The second stage was found by its sectors; the file of that name may lie elsewhere by now.
void compare_with_file(const Volume& volume, const SecondStage& stage, LoaderRun& out) {
    const std::string path = (stage.directory == "/" ? "" : stage.directory) + "/ldlinux.sys";
    const auto file = refer(volume, "ldlinux.sys", path, 0);
    if (!file.found()) {
        out.findings.push_back(make_finding(
            Code::SyslinuxFileMoved,
            fmt::format("{}:{} is gone; the loader still starts from sectors that are free now", volume.place, path),
            {evidence_place(volume.place + ":" + path, "a file", "absent"),
             Evidence{stage.ranges.front(), {}, {}, {}, {}}}));
        return;
    }
    const auto ranges = ranges_of(volume, file.file);
    if (ranges.empty() || ranges.front().offset == stage.ranges.front().offset) return;
    out.findings.push_back(make_finding(
        Code::SyslinuxFileMoved,
        fmt::format("{}:{} lies in other sectors than the ones the boot sector starts", volume.place, path),
        {Evidence{ranges.front(), {}, {}, {}, {}}, Evidence{stage.ranges.front(), {}, {}, {}, {}}}));
}

}  // namespace

std::string no_file_system_screen(const std::string& banner) {
    const auto version = banner.find("LINUX ");
    const bool old = version != banner.npos && version + 6 < banner.size() && banner[version + 6] < '5';
    return banner + (old ? "\nNo valid file system found!" : "\n(nothing more is shown)");
}

std::optional<FileReference> core_module(const Volume& volume, const std::string& spoken, LoaderRun& out) {
    return usable_core_module(volume, "/boot/isolinux",
                              spoken + "\nFailed to load ldlinux.c32\nBoot failed: press a key to retry...", out);
}

bool recognise(std::span<const std::uint8_t> sector) { return read_boot_sector(sector).has_value(); }

LoaderRun run(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    const auto sector = place.disk->source->bytes(place.lba * sector_size, sector_size);
    const auto boot = sector ? read_boot_sector(*sector) : std::nullopt;
    if (!boot) return out;
    out.route.push_back(fmt::format("{}: SYSLINUX boot code", place.text()));
    out.first_sector_text =
        fmt::format("SYSLINUX boot code, which loads ldlinux.sys from sector {} of the volume", boot->first);
    out.next_sector = place.lba + boot->first;
    const auto stage = Reader(place, *boot, out).read();
    if (!stage) return out;
    VolumeRef volume = place.volume != nullptr ? place.volume : machine.volume(place.disk->number, 0);
    out.route.push_back(fmt::format("ldlinux.sys at d{}@{}", place.disk->number, stage->ranges.front().offset));
    const std::string banner = stage->banner + "EDD";
    if (volume == nullptr || plain_view(*volume) == nullptr) {
        stop(out, Code::SyslinuxNoFileSystem,
             std::string("ldlinux.sys finds no file system that it can read where it was started from") +
                 unread_clause(volume),
             {evidence_place(place.text(), "a file system")}, no_file_system_screen(banner));
        return out;
    }
    compare_with_file(*volume, *stage, out);
    const auto module = usable_core_module(
        *volume, stage->directory,
        banner + "\nFailed to load ldlinux.c32\nBoot failed: please change disks and press a key to continue.", out);
    if (!module) return out;
    out.loader_text = fmt::format("ldlinux.sys is whole (its checksum holds), {} is there", module->place);
    out.loader_evidence = {
        Evidence{stage->ranges.back(),
                 {},
                 {},
                 {},
                 fmt::format("{} sectors, checksum over {} bytes", static_cast<unsigned>(stage->patch.data_sectors),
                             stage->patch.dwords * 4)},
        evidence_place(module->place, {}, "a 32-bit ELF module")};
    prove_module(machine, *module, out);
    const auto library = open_file(*module);
    if (const auto lost = library != nullptr ? lost_within(*library) : std::nullopt) {
        out.loader_state = State::Unknown;
        out.loader_text += ", but a part of it cannot be read, and the loader goes on without that";
        out.loader_evidence.push_back(evidence_error(*lost));
    }
    // With nothing left to prove by running it further, that much must be seen: its code reads where its own place is
    // from the boot sector.
    if (out.parts_proven) out.must_load = stage->ranges;
    const std::string core_directory = module->place.substr(module->place.find(':') + 1);
    read_menu(machine, *volume, core_directory.substr(0, std::max<std::size_t>(core_directory.rfind('/'), 1)), banner,
              out);
    return out;
}

}  // namespace herberge::loader::syslinux
