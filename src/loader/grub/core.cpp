// SPDX-License-Identifier: MIT
// GRUB 2 for i386-pc from its first sector to its unpacked core.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/loader.hpp>
#include <herberge/pe.hpp>

#include "bytes/uniform.hpp"
#include "loader/grub/elf_module.hpp"
#include "loader/grub/reed_solomon.hpp"
#include "ondisk/grub.hpp"
#include "ondisk/iso9660.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t sector = 512;
constexpr std::uint32_t module_magic = 0x676D696D;  // "mimg"
constexpr std::uint32_t most_core = 4U << 20U;
constexpr std::uint32_t lzma_dictionary = 1U << 16U;  // util/mkimage.c, compress_kernel_lzma
/// The decompressor's size differs by version; its upper bound is GRUB_DECOMPRESSOR_I386_PC_MAX_DECOMPRESSOR_SIZE.
constexpr std::size_t most_block = 8192;
constexpr std::size_t most_decompressor = 0x9000 - 0x8200;

bool contains(std::span<const std::uint8_t> bytes, std::string_view text) {
    return std::search(bytes.begin(), bytes.end(), text.begin(), text.end(), [](std::uint8_t byte, char wanted) {
               return byte == static_cast<std::uint8_t>(wanted);
           }) != bytes.end();
}

/// diskboot.img: prints "loading" and loads the runs listed at its end.
bool looks_like_disk_boot(std::span<const std::uint8_t> bytes) {
    if (!contains(bytes, "loading") || !contains(bytes, "Geom")) return false;
    const auto first = ondisk::from_bytes<ondisk::GrubBlockRun>(bytes, sector - sizeof(ondisk::GrubBlockRun));
    return first.sectors != 0 && first.segment >= 0x0820 && first.segment < 0xA000;
}

/// Whether the short or near jump at the start lands on the code behind the fields.
bool jump_lands(std::span<const std::uint8_t> bytes) {
    if (bytes[0] == 0xEB) return bytes[1] == 0x63 || (bytes[1] < 0x80 && bytes[2U + bytes[1]] == 0xFA);
    if (bytes[0] == 0xE9) {
        const std::size_t target = 3U + bytes[1] + (std::size_t{bytes[2]} << 8U);
        return target < 0x1B8 && bytes[target] == 0xFA;
    }
    return false;
}

tl::unexpected<Finding> problem(Code code, std::string text, std::string screen, std::vector<Evidence> evidence) {
    return tl::unexpected(make_finding(code, std::move(text), std::move(evidence), std::move(screen)));
}

/// Notes an embedded module; one that cannot be read keeps its place in the order.
void take_module(const Result<grub::Module>& module, GrubCore& core) {
    core.modules.push_back(module ? module->name : "?");
    if (!module) return;
    if (module->features) core.features[module->name] = *module->features;
    core.words.insert(core.words.end(), module->words.begin(), module->words.end());
}

/// What a core carries besides modules (include/grub/kernel.h, OBJ_TYPE_…).
void take_object(unsigned type, std::span<const std::uint8_t> body, GrubCore& core) {
    constexpr unsigned memory_disk = 1, config = 2, prefix = 3;
    const std::string text(body.begin(), std::ranges::find(body, std::uint8_t{0}));
    if (type == memory_disk) core.memory_disk.assign(body.begin(), body.end());
    if (type == config) core.embedded_config = text;
    if (type == prefix) core.prefix = text;
}

/// Calls `take` with type and body of each object of a list (struct grub_module_header), up to one whose size cannot
/// be.
template <typename Take>
void each_object(std::span<const std::uint8_t> list, const Take& take) {
    while (list.size() >= sizeof(ondisk::GrubModuleHeader)) {
        const auto header = ondisk::from_bytes<ondisk::GrubModuleHeader>(list);
        if (header.size < sizeof(header) || header.size > list.size()) return;
        take(unsigned{header.type}, list.subspan(sizeof(header), header.size - sizeof(header)));
        list = list.subspan(header.size);
    }
}

/// Reads kernel, modules, configuration and prefix out of the unpacked image (include/grub/kernel.h).
bool read_modules(GrubCore& core) {
    const std::span<const std::uint8_t> all(core.kernel);
    for (std::size_t at = 0; at + sizeof(ondisk::GrubModuleInfo) <= all.size(); at += 4) {
        if (ondisk::from_bytes<ondisk::little_uint32_t>(all, at) != module_magic) continue;
        const auto info = ondisk::from_bytes<ondisk::GrubModuleInfo>(all, at);
        if (info.offset < sizeof(info) || info.offset > info.size || info.size > all.size() - at) continue;
        each_object(all.subspan(at + info.offset, info.size - info.offset), [&](unsigned type, auto body) {
            if (type == 0) take_module(grub::read_module(body), core);
            else take_object(type, body, core);
        });
        return true;
    }
    return false;
}

}  // namespace

std::optional<GrubBoot> recognise_grub_boot(std::span<const std::uint8_t> bytes) {
    if (bytes.size() < sector) return std::nullopt;
    const auto head = ondisk::from_bytes<ondisk::GrubBootSector>(bytes);
    // boot.S: the address 0x8000, and the messages of its error paths.
    const bool messages = contains(bytes.first(0x1B8), "GRUB ") && contains(bytes.first(0x1B8), "Geom");
    if (head.kernel_address != 0x8000 || !messages) return std::nullopt;
    GrubBoot out;
    out.core_sector = head.kernel_sector;
    out.boot_drive = head.boot_drive;
    out.jump_lands_in_code = jump_lands(bytes);
    // boot_hybrid.img keeps its pointer where makers of discs patch it, at 7DB0h once it is loaded, and leaves the
    // usual place empty; those makers may put a mark in front that is harmless as code.
    const bool marked = bytes[0] == 'E' && bytes[1] == 'R';
    const bool reads_there = contains(bytes.first(0x180), std::string_view("\xB0\x7D", 2));
    if (marked || (out.core_sector == 0 && reads_there)) {
        out.core_sector = ondisk::from_bytes<ondisk::HybridBootSector>(bytes).image;
        out.pointer_at = offsetof(ondisk::HybridBootSector, image);
        out.jump_lands_in_code = out.jump_lands_in_code || marked;
    }
    if (!out.jump_lands_in_code)
        out.damage = Error{ErrorKind::Malformed,
                           "the jump at the start of the first sector does not lead to its code",
                           {},
                           "eb 63",
                           hex(bytes.first(3))};
    else if (!contains(bytes.subspan(0x65, 0x11B), std::string_view("\xCD\x13", 2)))
        out.damage = Error{ErrorKind::Malformed,
                           "the code of the first sector no longer calls the disk service (INT 13h)",
                           {},
                           "cd 13",
                           "absent"};
    return out;
}

std::optional<std::uint64_t> find_grub_core(const Disk& disk) {
    constexpr std::uint64_t gap = 2048;
    const auto bytes =
        disk.source->bytes(0, std::min<std::uint64_t>(gap * sector, disk.source->size() / sector * sector));
    if (!bytes) return std::nullopt;
    for (std::uint64_t at = 1; (at + 1) * sector <= bytes->size(); ++at)
        if (looks_like_disk_boot(std::span(*bytes).subspan(at * sector, sector))) return at;
    return std::nullopt;
}

namespace {
tl::expected<GrubCore, Finding> unpack_core(GrubCore core, std::vector<std::uint8_t> rest,
                                            const std::vector<Evidence>& whole);
}

tl::expected<GrubCore, Finding> read_grub_core(const Disk& disk, const GrubBoot& boot) {
    GrubCore core;
    core.disk = disk.number;
    core.first_sector = boot.core_sector;
    const ByteSource& source = *disk.source;
    const std::uint64_t sectors = source.size() / sector;
    if (boot.core_sector >= sectors) {
        return problem(
            Code::GrubCorePointer,
            fmt::format("the first sector sends the firmware to sector {}, past the end of the disk", boot.core_sector),
            "GRUB  Read Error",
            {evidence_bytes(source, boot.sector * sector + boot.pointer_at, 8,
                            fmt::format("a sector below {}", sectors), fmt::format("{}", boot.core_sector))});
    }
    const std::uint64_t first_at = boot.core_sector * sector;
    const auto first = source.bytes(first_at, sector);
    if (!first)
        return problem(Code::GrubCoreUnreadable, "the first sector of GRUB's core image cannot be read",
                       "GRUB  Read Error", {evidence_error(first.error())});
    if (!looks_like_disk_boot(*first)) {
        if (const auto other = find_grub_core(disk))
            return problem(
                Code::GrubCorePointer,
                fmt::format("the first sector looks for GRUB's core image at sector {}, but it begins at sector {}",
                            boot.core_sector, *other),
                "GRUB",
                {evidence_bytes(source, boot.sector * sector + boot.pointer_at, 8, fmt::format("{}", *other),
                                fmt::format("{}", boot.core_sector))});
        return problem(Code::GrubCoreFirstSector, "the first sector of GRUB's core image is overwritten",
                       "GRUB GRUB GRUB",
                       {evidence_bytes(source, first_at, sector, "the code that loads the rest of the core image",
                                       holds_only(*first, 0) ? "zeros" : "something else")});
    }
    core.ranges.push_back({disk.number, first_at, sector});
    core.first_code = *first;
    std::vector<std::uint8_t> rest;
    constexpr std::size_t run_size = sizeof(ondisk::GrubBlockRun);
    for (std::size_t at = sector - run_size; at > 0x100; at -= run_size) {
        const auto run = ondisk::from_bytes<ondisk::GrubBlockRun>(*first, at);
        if (run.sectors == 0) break;
        const std::uint64_t start = run.start;
        const std::uint64_t length = run.sectors * sector;
        if (rest.size() + length > most_core) break;
        const auto part = start < sectors ? source.bytes(start * sector, length)
                                          : fail(ErrorKind::OutOfRange, "a run past the end of the disk");
        if (!part)
            return problem(
                Code::GrubCoreUnreadable, "a part of GRUB's core image cannot be read", "GRUB loading Read Error",
                {evidence_bytes(source, first_at + at, run_size, "sectors of this disk",
                                fmt::format("{} sectors from {}", static_cast<unsigned>(run.sectors), start)),
                 evidence_error(part.error())});
        rest.insert(rest.end(), part->begin(), part->end());
        core.blocks.push_back({start, run.sectors});
        core.ranges.push_back({disk.number, start * sector, length});
    }
    const std::vector<Evidence> whole = {
        {DiskRange{disk.number, core.blocks.empty() ? first_at : core.blocks.front().start * sector, rest.size()},
         {},
         {},
         {},
         {}}};
    return unpack_core(std::move(core), std::move(rest), whole);
}

bool is_grub_disc_boot(std::span<const std::uint8_t> image) {
    // cdboot.S: its messages, and a boot information table that it cannot do without.
    return image.size() >= sector && contains(image.first(sector), "no boot info") &&
           contains(image.first(sector), "cdrom read fails");
}

tl::expected<GrubCore, Finding> read_grub_disc_core(const Disk& disk, std::uint64_t image_at) {
    constexpr std::uint64_t block = 2048;
    const ByteSource& source = *disk.source;
    GrubCore core;
    core.disk = disk.number;
    const auto table = read_boot_information(source, image_at);
    const std::vector<Evidence> field = {evidence_bytes(source, image_at + 8, 16, "a boot information table", "none")};
    if (!table || table->length == 0 || table->file_block == 0)
        return problem(Code::GrubDiscNoTable, "GRUB's boot image carries no boot information table", "no boot info",
                       field);
    const std::uint64_t begin = (table->file_block + 1) * block;
    const std::uint64_t length = (table->length + block - 1) / block * block - block;
    if (length > most_core || begin > source.size() || length > source.size() - begin)
        return problem(Code::GrubCoreUnreadable,
                       fmt::format("GRUB's boot image tells a place that the medium does not have (block {}, {} bytes)",
                                   table->file_block, table->length),
                       "cdrom read fails", field);
    auto bytes = source.bytes(begin, length);
    if (!bytes)
        return problem(Code::GrubCoreUnreadable, "a part of GRUB's core image cannot be read", "cdrom read fails",
                       {evidence_error(bytes.error())});
    core.first_sector = begin / sector;
    core.ranges = {{disk.number, image_at, block}, {disk.number, begin, length}};
    const std::vector<Evidence> whole = {{DiskRange{disk.number, begin, length}, {}, {}, {}, {}}};
    // The sector that loads the rest from a disk comes first, also where it has nothing to do.
    std::vector<std::uint8_t> rest(
        bytes->begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(sector, bytes->size())), bytes->end());
    // What fills the last block is no part of the image.
    const std::uint64_t exact = table->length > block + sector ? table->length - block - sector : 0;
    if (exact < rest.size()) rest.resize(static_cast<std::size_t>(exact));
    return unpack_core(std::move(core), std::move(rest), whole);
}

namespace {
tl::expected<GrubCore, Finding> unpack_core(GrubCore core, std::vector<std::uint8_t> rest,
                                            const std::vector<Evidence>& whole) {
    const std::string silent = "GRUB loading.";
    const auto header = ondisk::from_bytes<ondisk::GrubCoreHeader>(rest);
    core.compressed_size = header.compressed_size;
    core.uncompressed_size = header.uncompressed_size;
    core.redundancy = header.redundancy;
    const std::size_t total = rest.size();
    const std::size_t unprotected = header.unprotected;
    if (rest.size() < sizeof(header) || header.jump[0] != 0xEA || core.compressed_size == 0 ||
        core.compressed_size > total || core.uncompressed_size == 0 || core.uncompressed_size > most_core ||
        core.redundancy > total - core.compressed_size || unprotected >= total)
        return problem(Code::GrubCoreHeader, "the start of GRUB's core image is damaged", silent, whole);
    core.start_up.assign(rest.begin(), rest.begin() + static_cast<std::ptrdiff_t>(unprotected));
    // The image is decompressor, compressed part, redundancy; the installer rounds the sum up to whole sectors and
    // enlarges the redundancy to fill them, so the decompressor's size is what remains. Without redundancy
    // the payload's own start is searched for.
    const std::size_t decompressor = total - core.compressed_size - core.redundancy;
    if (core.redundancy != 0 && decompressor > unprotected && decompressor <= most_decompressor) {
        const std::span<std::uint8_t> image(rest);
        const auto repaired =
            grub::repair(image.subspan(unprotected, decompressor + core.compressed_size - unprotected),
                         image.subspan(decompressor + core.compressed_size, core.redundancy));
        if (!repaired)
            return problem(Code::GrubCoreBeyondRepair,
                           "GRUB's core image is damaged beyond what its own error correction can repair", silent,
                           whole);
        core.repaired_bytes = *repaired;
        if (*repaired > 0)
            core.findings.push_back(make_finding(
                Code::GrubCoreRepaired,
                fmt::format("GRUB's core image is damaged; its own error correction repairs {} bytes at every start",
                            *repaired),
                whole));
    }
    std::optional<Error> why;
    auto try_at = [&](std::size_t offset) {
        auto kernel = unpack_raw_lzma(std::span(rest).subspan(offset, core.compressed_size), core.uncompressed_size,
                                      lzma_dictionary);
        if (!kernel) {
            if (!why) why = kernel.error();
            return false;
        }
        core.kernel = std::move(*kernel);
        return read_modules(core);
    };
    bool unpacked = decompressor <= most_decompressor && try_at(decompressor);
    // Without redundancy the image is a file, and its list of runs covers the file system's last block to its end, so
    // that the payload may begin up to a block earlier; LZMA data always begins with a zero byte.
    for (std::size_t back = 1; core.redundancy == 0 && !unpacked && back < most_block && back < decompressor; ++back)
        unpacked = rest[decompressor - back] == 0 && try_at(decompressor - back);
    if (!unpacked)
        return problem(
            Code::GrubCoreDamaged,
            "GRUB's core image cannot be unpacked: " + (why ? why->what : std::string("it holds no module list")),
            silent, whole);
    return core;
}
}  // namespace

Result<GrubCore> read_grub_efi(const ByteSource& image) {
    const auto pe = inspect_pe(image);
    if (!pe) return tl::unexpected(pe.error());
    const auto mods = std::ranges::find(pe->sections, std::string_view("mods"), &PeSection::name);
    if (mods == pe->sections.end()) return fail(ErrorKind::NotFound, "no section with modules", image.place());
    GrubCore core;
    const auto* machine = efi_machine_of_image(pe->machine);
    core.platform = machine != nullptr ? machine->grub : pe->wide ? "x86_64-efi" : "i386-efi";
    for (const auto& section : pe->sections) {
        if (section.name == "mods" || section.file_size == 0) continue;
        const auto part = image.bytes(section.file_offset, section.file_size, most_core * 4);
        if (part) core.kernel.insert(core.kernel.end(), part->begin(), part->end());
    }
    const auto list = image.bytes(mods->file_offset, mods->file_size, std::uint64_t{64} << 20U);
    if (!list) return tl::unexpected(list.error());
    // The list's head: mark, offset, size; in the 64-bit form a spare word behind the mark, and eight bytes each.
    const auto narrow = ondisk::from_bytes<ondisk::GrubModuleInfo>(*list);
    const auto wide = ondisk::from_bytes<ondisk::GrubModuleInfo64>(*list);
    const std::size_t head = pe->wide ? sizeof(wide) : sizeof(narrow);
    if (list->size() < head) return fail(ErrorKind::Malformed, "the list of modules is damaged", image.place());
    const std::uint64_t offset = pe->wide ? std::uint64_t{wide.offset} : std::uint64_t{narrow.offset};
    const std::uint64_t size = pe->wide ? std::uint64_t{wide.size} : std::uint64_t{narrow.size};
    if (narrow.magic != module_magic || offset < head || offset > size || size > list->size())
        return fail(ErrorKind::Malformed, "the list of modules is damaged", image.place());
    const auto objects =
        std::span(*list).subspan(static_cast<std::size_t>(offset), static_cast<std::size_t>(size - offset));
    each_object(objects, [&](unsigned type, auto body) {
        if (type != 0) return take_object(type, body, core);
        const auto module = grub::read_module(body, core.platform);
        take_module(module, core);
        if (module) core.symbols.insert(core.symbols.end(), module->defines.begin(), module->defines.end());
    });
    return core;
}

}  // namespace herberge
