// SPDX-License-Identifier: MIT
#include <herberge/pe.hpp>

#include <fmt/format.h>
#include <algorithm>
#include <cstdlib>

#include "ondisk/pe.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_imports = 1000;
constexpr unsigned directory_import = 1;
constexpr unsigned directory_security = 4;
constexpr unsigned directory_relocation = 5;
constexpr std::uint64_t most_file = std::uint64_t{256} << 20U;

std::optional<std::uint64_t> file_offset(const PeImage& image, std::uint32_t address) {
    for (const auto& s : image.sections)
        if (address >= s.address && address - s.address < s.file_size) return s.file_offset + (address - s.address);
    if (address < image.header_size) return address;
    return std::nullopt;
}

std::string text_at(const ByteSource& file, std::uint64_t at) {
    std::string out;
    if (at >= file.size()) return out;
    const auto bytes = file.bytes(at, std::min<std::uint64_t>(128, file.size() - at));
    if (!bytes) return out;
    for (const auto b : *bytes) {
        if (b == 0) break;
        out += static_cast<char>(b);
    }
    return printable(out);
}

void read_imports(const ByteSource& file, std::uint64_t base, const ondisk::PeDirectory& directory, PeImage& out) {
    if (directory.address == 0 || directory.size == 0) return;
    for (std::size_t i = 0; i < most_imports; ++i) {
        const auto at = file_offset(out, directory.address + static_cast<std::uint32_t>(i * sizeof(ondisk::PeImport)));
        const auto import = at ? file.load<ondisk::PeImport>(base + *at) : fail(ErrorKind::OutOfRange, "outside");
        if (!import || import->name == 0) return;
        if (const auto name = file_offset(out, import->name)) {
            auto text = text_at(file, base + *name);
            if (!text.empty()) out.imports.push_back(std::move(text));
        }
    }
}

}  // namespace

std::string pe_machine_name(std::uint16_t machine) {
    switch (machine) {
        case 0x8664: return "x86-64";
        case 0x014C: return "i386";
        case 0xAA64: return "AArch64";
        case 0x01C0:
        case 0x01C2:
        case 0x01C4: return "ARM";
        case 0x0200: return "Itanium";
        case 0x5032:
        case 0x5064: return "RISC-V";
        default: return fmt::format("machine {:04x}", machine);
    }
}

Result<PeImage> inspect_pe(const ByteSource& file, std::uint64_t offset) {
    const auto not_one = [&](std::string what, std::string expected = {}, std::string found = {}) {
        return fail(ErrorKind::Malformed, std::move(what), file.place(), std::move(expected), std::move(found));
    };
    if (offset >= file.size() || file.size() - offset < 64) return not_one("the file is too short to be an image");
    const auto dos = file.load<ondisk::DosHead>(offset);
    if (!dos) return tl::unexpected(dos.error());
    if (dos->mark[0] != 'M' || dos->mark[1] != 'Z')
        return not_one("the file does not begin like an image", "MZ", hex(dos->mark));
    const std::uint32_t pe_at = dos->pe_at;
    const auto head = file.load<ondisk::PeFileHeader>(offset + pe_at);
    if (!head && head.error().unreadable()) return tl::unexpected(head.error());
    if (!head || head->mark[0] != 'P' || head->mark[1] != 'E' || head->mark[2] != 0 || head->mark[3] != 0)
        return not_one("no PE header where the file says it is", "PE");
    const std::uint64_t optional_at = offset + pe_at + sizeof(ondisk::PeFileHeader);
    const auto optional = file.load<ondisk::PeOptional>(optional_at);
    if (!optional) return tl::unexpected(optional.error());
    if (optional->magic != 0x10B && optional->magic != 0x20B)
        return not_one("an unknown kind of PE image", "10b or 20b",
                       fmt::format("{:x}", std::uint16_t{optional->magic}));
    PeImage out;
    out.machine = head->machine;
    out.wide = optional->magic == 0x20B;
    out.subsystem = optional->subsystem;
    out.characteristics = head->characteristics;
    out.entry = optional->entry;
    // 32-bit images have the data's base before their own.
    const std::uint64_t high = optional->base_high;
    out.base = out.wide ? high << 32U | optional->base_low : high;
    out.image_size = optional->image_size;
    out.header_size = optional->header_size;
    out.stored_checksum = optional->checksum;
    out.end = out.header_size;
    const std::uint64_t table = optional_at + head->optional_size;
    out.sections_at = table - offset;
    out.section_count = head->sections;
    for (unsigned i = 0; i < head->sections; ++i) {
        const auto section = file.load<ondisk::PeSectionHeader>(table + i * sizeof(ondisk::PeSectionHeader));
        if (!section && section.error().unreadable()) return tl::unexpected(section.error());
        if (!section) {
            out.complete = false;
            break;
        }
        PeSection s;
        s.name.assign(section->name.begin(), std::ranges::find(section->name, std::uint8_t{0}));
        // Longer names stand in the string table behind the symbols, as "/" and their place.
        if (s.name.size() > 1 && s.name[0] == '/' && head->symbols != 0) {
            const std::uint64_t strings = std::uint64_t{head->symbols} + std::uint64_t{head->symbol_count} * 18;
            const auto place = static_cast<std::uint64_t>(std::strtoul(s.name.c_str() + 1, nullptr, 10));
            if (auto text = text_at(file, offset + strings + place); !text.empty()) s.name = std::move(text);
        }
        s.name = printable(s.name);
        s.address = section->address;
        s.virtual_size = section->virtual_size;
        s.file_offset = section->file_offset;
        s.file_size = section->file_size;
        if (s.file_size > 0) out.end = std::max<std::uint64_t>(out.end, std::uint64_t{s.file_offset} + s.file_size);
        if (out.sections.size() < 4096) out.sections.push_back(std::move(s));
    }
    out.checksum_at = optional_at - offset + offsetof(ondisk::PeOptional, checksum);
    std::uint64_t directories = optional_at + sizeof(ondisk::PeOptional);
    std::uint32_t count = 0;
    std::optional<Error> lost;  // a part that the medium does not give
    const auto end_with = [&](const auto& tail) {
        directories += sizeof(*tail);
        if (tail) count = tail->directories;
        else if (tail.error().unreadable()) lost = tail.error();
    };
    if (out.wide) end_with(file.load<ondisk::PeOptionalTail64>(directories));
    else end_with(file.load<ondisk::PeOptionalTail32>(directories));
    out.directories_at = directories - offset;
    out.directories = count;
    auto directory = [&](unsigned index) {
        if (index >= count || directories + (index + 1) * 8 > optional_at + head->optional_size)
            return ondisk::PeDirectory{};
        const auto found = file.load<ondisk::PeDirectory>(directories + index * 8);
        if (!found && found.error().unreadable()) lost = found.error();
        return found.value_or(ondisk::PeDirectory{});
    };
    const auto security = directory(directory_security);
    out.certificates_offset = security.address;
    out.certificates_size = security.address != 0 ? static_cast<std::uint32_t>(security.size) : 0U;
    if (out.certificates_size != 0) out.end = std::max(out.end, out.certificates_offset + out.certificates_size);
    if (out.end > file.size() - offset) out.complete = false;
    const auto relocations = directory(directory_relocation);
    out.relocations = relocations.address;
    out.relocations_size = relocations.size;
    read_imports(file, offset, directory(directory_import), out);
    if (lost) return tl::unexpected(*lost);
    return out;
}

std::vector<std::uint8_t> pe_section(const ByteSource& file, const PeImage& image, std::string_view name,
                                     std::uint64_t most) {
    const auto section = std::ranges::find(image.sections, name, &PeSection::name);
    if (section == image.sections.end()) return {};
    std::uint64_t length = std::min<std::uint64_t>(section->file_size, most);
    if (section->virtual_size != 0) length = std::min<std::uint64_t>(length, section->virtual_size);
    auto bytes = file.bytes(section->file_offset, length);
    return bytes ? std::move(*bytes) : std::vector<std::uint8_t>();
}

Result<std::uint32_t> pe_checksum(const ByteSource& file) {
    const auto dos = file.load<ondisk::DosHead>(0);
    if (!dos) return tl::unexpected(dos.error());
    const std::uint64_t field =
        std::uint64_t{dos->pe_at} + sizeof(ondisk::PeFileHeader) + offsetof(ondisk::PeOptional, checksum);
    constexpr std::uint64_t step = std::uint64_t{1} << 20U;
    if (file.size() > most_file) return fail(ErrorKind::TooLarge, "an image too large for its checksum", file.place());
    std::uint64_t sum = 0;
    for (std::uint64_t at = 0; at < file.size(); at += step) {
        auto part = file.bytes(at, std::min(step, file.size() - at));
        if (!part) return tl::unexpected(part.error());
        for (std::uint64_t i = field; i < field + 4; ++i)
            if (i >= at && i - at < part->size()) (*part)[static_cast<std::size_t>(i - at)] = 0;
        if (part->size() % 2 != 0) part->push_back(0);
        for (std::size_t i = 0; i < part->size(); i += 2)
            sum += static_cast<unsigned>((*part)[i] | (*part)[i + 1] << 8U);
    }
    while (sum > 0xFFFF) sum = (sum & 0xFFFFU) + (sum >> 16U);
    return static_cast<std::uint32_t>(sum + file.size());
}

}  // namespace herberge
