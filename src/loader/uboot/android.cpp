// SPDX-License-Identifier: MIT
// Android's images as U-Boot takes them (boot/image-android.c, boot/android_ab.c, cmd/abootimg.c, cmd/ab_select.c of
// 2023.01, and of 2023.07 for versions 3 and 4; the layouts: Android's "Boot image header").
#include <fmt/format.h>
#include <algorithm>

#include "artifact/boot_image.hpp"
#include "loader/uboot/console.hpp"
#include "ondisk/android.hpp"

namespace herberge::loader::uboot {

void Console::take_android(const Loaded& held, MenuEntry& entry, std::string& ramdisk, std::string& tree) {
    const auto image = inspect_android(*held.bytes);
    if (!image)
        return refuse(
            entry, make_finding(Code::UbootImageRefused,
                                fmt::format("the Android image {} is refused: {}", held.file.place, image.error().what),
                                {evidence_error(image.error())},
                                "Wrong Image Format for bootm command\nERROR: can't get kernel image!"));
    const auto piece = [](const Loaded& of, const std::pair<std::uint64_t, std::uint64_t>& part) {
        return part_of(of, part.first, part.second);
    };
    if (image->kernel.second == 0)
        return refuse(entry, make_finding(Code::UbootImageRefused,
                                          fmt::format("the Android image {} holds no kernel", held.file.place),
                                          {evidence_bytes(*held.bytes, 8, 4, "the kernel's size", "0")},
                                          "Wrong Image Format for bootm command\nERROR: can't get kernel image!"));
    entry.kernel.push_back(piece(held, image->kernel));
    // What U-Boot's variable says comes first.
    const auto argue = [&entry](const std::string& more) {
        if (!more.empty()) entry.arguments += (entry.arguments.empty() ? "" : " ") + more;
    };
    argue(image->arguments);
    // A vendor's part of its own (versions 3 and 4) holds what belongs to the board.
    std::optional<AndroidVendorImage> vendor;
    const auto vendor_at = number_of(value("vendor_boot_comp_addr_r"));
    const Loaded* other = image->version >= 3 && vendor_at ? at(*vendor_at) : nullptr;
    if (other != nullptr)
        if (const auto own = inspect_android_vendor(*other->bytes)) {
            vendor = *own;
            argue(own->arguments);
        }
    if (ramdisk != "-" && (ramdisk.empty() || number_of(ramdisk) == held.address)) {
        ramdisk = "-";
        if (vendor && vendor->ramdisk.second != 0) entry.ramdisks.push_back(piece(*other, vendor->ramdisk));
        if (image->ramdisk.second != 0) entry.ramdisks.push_back(piece(held, image->ramdisk));
    }
    if (!tree.empty()) return;
    // Its own tree, else what stands in the second part if that is one (boot_get_fdt).
    for (const auto& part : {image->tree, image->second}) {
        if (part.second == 0) continue;
        if (!DeviceTree::open(*held.bytes, part.first)) continue;
        entry.devicetree.push_back(piece(held, part));
        tree = "-";
        return;
    }
    if (vendor && vendor->tree.second != 0 && DeviceTree::open(*other->bytes, vendor->tree.first)) {
        entry.devicetree.push_back(piece(*other, vendor->tree));
        tree = "-";
    }
}

/// abootimg addr <address> [<vendor's>]; abootimg get ver|recovery_dtbo|dtb|dtb_load_addr …
int Console::do_android(const Words& words) {
    if (words.size() < 3) return 1;
    if (words[1] == "addr") {
        set("abootimg_addr", words[2]);
        if (words.size() > 3) set("vendor_boot_comp_addr_r", words[3]);
        return number_of(words[2]) ? 0 : 1;
    }
    const auto address = number_of(value("abootimg_addr").empty() ? value("loadaddr") : value("abootimg_addr"));
    const Loaded* held = address ? at(*address) : nullptr;
    if (held == nullptr || !is_android(*held->bytes)) return 1;
    const auto image = inspect_android(*held->bytes);
    if (!image || words[1] != "get") return 1;
    if (words[2] == "ver") {
        if (words.size() > 3) set(words[3], fmt::format("{}", image->version));
        return 0;
    }
    // abootimg get dtb --index=<number> [<address> [<size>]]
    if (words[2] == "dtb" && words.size() > 4 && words[3].starts_with("--index=")) {
        std::uint64_t offset = image->tree.first;
        const std::uint64_t end = image->tree.first + image->tree.second;
        std::uint64_t index = number_of(words[3].substr(8)).value_or(0);
        while (offset < end) {
            const auto tree = DeviceTree::open(*held->bytes, offset);
            if (!tree) return 1;
            if (index-- == 0) {
                set(words[4], fmt::format("{:x}", held->address + offset));
                if (words.size() > 5) set(words[5], fmt::format("{:x}", tree->size()));
                return 0;
            }
            offset += tree->size();
        }
        return 1;
    }
    return unfollowed("abootimg get");
}

/// ab_select <variable> <interface> <dev[:part | #name]>: the slot whose turn it is.
int Console::do_slot(const Words& words) {
    if (words.size() < 4) return 1;
    const Disk* disk = device(words[2], words[3]);
    const Partition* part = disk != nullptr ? partition_of(*disk, words[3]) : nullptr;
    if (part == nullptr) return 1;
    constexpr std::uint64_t record_at = 2048;
    const std::uint64_t at_byte = part->first_lba * disk->table.sector_size + record_at;
    const auto record = disk->source->load<ondisk::AndroidSlots>(at_byte);
    const auto bytes = disk->source->bytes(at_byte, 28);
    if (!record || !bytes) return unfollowed("ab_select");
    constexpr std::uint32_t magic = 0x42414342;
    const bool sound = record->magic == magic && crc32(0, *bytes) == record->crc;
    // A record that does not hold is written anew: every slot with all its tries.
    const unsigned count = sound ? std::clamp<unsigned>(record->counts & 7U, 1, 4) : 2U;
    std::optional<unsigned> best;
    const auto rank = [&](unsigned slot) {
        const unsigned state = sound ? static_cast<unsigned>(record->slots[slot]) : 0x7FU;
        const unsigned priority = state & 0xFU;
        const unsigned tries = state >> 4U & 7U;
        const bool good = (state & 0x80U) != 0;
        const bool spoilt = (state & 0x100U) != 0;
        const bool usable = priority != 0 && !spoilt && (tries != 0 || good);
        return std::tuple{usable, priority, good, tries};
    };
    for (unsigned slot = 0; slot < count; ++slot)
        if (std::get<0>(rank(slot)) && (!best || rank(slot) > rank(*best))) best = slot;
    if (!best) {
        trouble(
            Code::UbootCommandsEnd,
            fmt::format("no slot of d{}p{} may be started: each is used up or given up", disk->number, part->number),
            {evidence_bytes(*disk->source, at_byte, 32, "a slot with a priority and tries, or one that is good",
                            "none")},
            "ANDROID: Failed to select a slot");
        return 1;
    }
    set(words[1], std::string(1, static_cast<char>('a' + *best)));
    return 0;
}

}  // namespace herberge::loader::uboot
