// SPDX-License-Identifier: MIT
// What bootm takes out of a legacy image, and what U-Boot's unpacking says before anything is started (boot/image.c,
// boot/bootm.c, boot/bootm_os.c of 2023.01).
#include <fmt/format.h>
#include <algorithm>
#include <array>

#include "artifact/boot_image.hpp"
#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

std::uint8_t legacy_arch(Processor processor) {
    switch (processor) {
        case Processor::Arm: return 2;
        case Processor::Arm64: return 22;
        case Processor::Riscv64: return 26;
        case Processor::X86: break;
    }
    return 3;
}

}  // namespace

void Console::take_legacy(const Loaded& held, MenuEntry& entry) {
    const auto image = inspect_legacy_image(*held.bytes);
    const auto& header = image->header;
    const std::string about = fmt::format("the legacy image {}", held.file.place);
    if (!image->header_sound)
        return refuse(entry, Code::UbootImageRefused, fmt::format("the header of {} fails its checksum", about),
                      {bytes_of(held, 0, 64, "a matching CRC-32", "another")}, "Bad Header Checksum");
    if (verifies() && !image->data_sound)
        return refuse(entry, Code::UbootImageRefused,
                      fmt::format("{} {}", about, image->whole ? "fails its checksum" : "is cut short"),
                      {bytes_of(held, 24, 4, "the CRC-32 of its content", "another")},
                      "Verifying Checksum ... Bad Data CRC");
    if (header.arch != legacy_arch(board_.processor))
        return refuse(
            entry, Code::UbootImageRefused, fmt::format("{} is for another processor", about),
            {bytes_of(held, 29, 1, fmt::format("{}", legacy_arch(board_.processor)), fmt::format("{}", header.arch))},
            fmt::format("Unsupported Architecture {:#x}", header.arch));
    if (header.type != uboot_id::kernel && header.type != uboot_id::several && header.type != uboot_id::kernel_anywhere)
        return refuse(entry, Code::UbootImageRefused, fmt::format("{} holds no kernel", about),
                      {bytes_of(held, 30, 1, "type 2", fmt::format("type {}", header.type))},
                      "Wrong Image Type for bootm command");
    if (header.os == uboot_id::efi_os) {
        const auto application =
            inspect_pe(*slice(held.bytes, LegacyImage::data_at, held.size - LegacyImage::data_at, held.bytes->place()));
        if (!application)
            return refuse(entry, Code::EfiImageRefused,
                          fmt::format("{} says that it is an EFI application: {}", about, application.error().what),
                          {evidence_error(application.error())}, "Not a PE-COFF file\nLoading image failed");
        entry.unread = fmt::format("{} is handed to U-Boot's EFI, which is not followed here", about);
        return;
    }
    if (header.os != uboot_id::linux_os) {
        // What boot/bootm_os.c goes into; the others are not built in, or want another kind of file.
        constexpr std::pair<std::uint8_t, std::string_view> started[] = {
            {2, "## Transferring control to NetBSD stage-2 loader"},
            {14, "## Starting vxWorks"},
            {18, "## Transferring control to RTEMS"},
            {23, "## Transferring control to Plan 9"}};
        const auto* const found =
            std::ranges::find(started, header.os, &std::pair<std::uint8_t, std::string_view>::first);
        const bool starts = found != std::end(started);
        auto why = make_finding(
            Code::UbootImageRefused,
            fmt::format("{} says that it is no Linux: {}", about,
                        starts ? "it is started without what a Linux needs" : "nothing starts it as one"),
            {bytes_of(held, 28, 1, "5", fmt::format("{}", header.os))},
            starts ? std::string(found->second) : fmt::format("ERROR: booting os … ({}) is not supported", header.os));
        return starts ? take_down(entry, std::move(why)) : refuse(entry, std::move(why));
    }
    const bool anywhere = header.type == uboot_id::kernel_anywhere;
    if (!anywhere && (!in_memory(header.load) || !in_memory(header.entry)))
        return take_down(entry, make_finding(Code::UbootImageRefused,
                                             fmt::format("{} is to be put where the board has no memory", about),
                                             {bytes_of(held, 16, 8, fmt::format("from {:#x} on", board_.ram_at),
                                                       fmt::format("{:#x}", static_cast<std::uint32_t>(header.load)))},
                                             "\"Synchronous Abort\" handler"));
    const auto packing = legacy_compression(header.compression);
    const auto head = held.bytes->bytes(LegacyImage::data_at, std::min<std::uint64_t>(8, header.size));
    const bool packed = packing && *packing != Compression::None;
    if (!packing || (packed && head && head->size() >= 6 && recognise_board_compression(*head) != *packing))
        return refuse(entry, Code::UbootImageRefused,
                      fmt::format("{} says that its kernel is packed by {}, and it is not", about,
                                  packing ? std::string(compression_name(*packing))
                                          : fmt::format("number {}", header.compression)),
                      {bytes_of(held, 31, 1, "the packing of its content", fmt::format("{}", header.compression))},
                      fmt::format("{} compressed: uncompress error -1\nMust RESET board to recover",
                                  packing ? compression_name(*packing) : std::string_view("unknown")));
    if (packed)
        if (auto why = cannot_unpack(held, LegacyImage::data_at, header.size, *packing))
            return refuse(entry, std::move(*why));
    const std::uint64_t room = packed ? std::uint64_t{256} << 20U : std::uint64_t{header.size};
    if (!anywhere && (header.entry < header.load || header.entry - header.load >= room))
        return take_down(
            entry,
            make_finding(Code::UbootImageRefused, fmt::format("{} is entered where it does not lie", about),
                         {bytes_of(held, 20, 4, fmt::format("from {:#x} on", static_cast<std::uint32_t>(header.load)),
                                   fmt::format("{:#x}", static_cast<std::uint32_t>(header.entry)))},
                         "\"Synchronous Abort\" handler"));
    if (image->parts.size() > 1) {
        entry.kernel.push_back(part_of(held, image->parts[0].first, image->parts[0].second));
        if (entry.ramdisks.empty())
            entry.ramdisks.push_back(part_of(held, image->parts[1].first, image->parts[1].second));
        return;
    }
    entry.kernel.push_back(part_of(held, LegacyImage::data_at, header.size));
}

/// What U-Boot says of packed data that cannot be unpacked, before it starts any of them. It compares no checksum,
/// which stands behind the data of gzip (lib/gunzip.c, zunzip).
std::optional<Finding> Console::cannot_unpack(const Loaded& held, std::uint64_t offset, std::uint64_t length,
                                              Compression kind) const {
    constexpr std::uint64_t most = std::uint64_t{256} << 20U;
    const auto done =
        unpack(kind, *held.bytes, offset, length, most, [](std::span<const std::uint8_t>) { return true; });
    if (done) return std::nullopt;
    const auto what = done.error().kind;
    if (what != ErrorKind::Malformed && what != ErrorKind::OutOfRange) return std::nullopt;
    return make_finding(
        Code::UbootImageRefused,
        fmt::format("the packed kernel of {} cannot be unpacked: {}", held.file.place, done.error().what),
        {bytes_of(held, offset, length, fmt::format("whole {} data", compression_name(kind)), done.error().what)},
        fmt::format("{} compressed: uncompress error -1\nMust RESET board to recover", compression_name(kind)));
}

}  // namespace herberge::loader::uboot
