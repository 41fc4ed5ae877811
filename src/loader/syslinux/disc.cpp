// SPDX-License-Identifier: MIT
// The SYSLINUX family on optical discs and on media that start as a disk, too: core/isolinux.asm and mbr/isohdpfx.S of
// 6.04, core/fs/iso9660.
#include <fmt/format.h>
#include <algorithm>

#include "loader/family.hpp"
#include "loader/syslinux/config.hpp"
#include "loader/syslinux/core_module.hpp"
#include "ondisk/iso9660.hpp"

namespace herberge::loader::syslinux {

namespace {

constexpr std::uint64_t block = 2048;
constexpr std::uint32_t hybrid_mark = 0x7078C0FB;
constexpr std::uint32_t never_written = 0xDEADBEEF;
constexpr std::size_t hybrid_pointer = offsetof(ondisk::HybridBootSector, image);

bool contains(std::span<const std::uint8_t> bytes, std::string_view text) {
    return std::search(bytes.begin(), bytes.end(), text.begin(), text.end(), [](std::uint8_t byte, char wanted) {
               return byte == static_cast<std::uint8_t>(wanted);
           }) != bytes.end();
}

/// "ISOLINUX 6.04 20200816", which stands in the image's first block.
std::string banner_of(std::span<const std::uint8_t> image) {
    for (const auto& text : messages_in(image, 8))
        if (const auto at = text.find("ISOLINUX "); at != std::string::npos) {
            std::string out = text.substr(at);
            while (out.ends_with(' ')) out.pop_back();
            return out;
        }
    return "ISOLINUX";
}

class DiscLoader {
public:
    DiscLoader(const Machine& machine, const BootPlace& place, std::uint64_t image_at, std::string way, LoaderRun& out)
        : machine_(machine), disk_(*place.disk), image_at_(image_at), way_(std::move(way)), out_(out) {}

    void run() {
        const auto head = disk_.source->bytes(image_at_, std::min(block, disk_.source->size() - image_at_));
        if (!head) return;
        const std::string banner = banner_of(*head);
        out_.route.push_back(fmt::format("boot image at d{}@{}", disk_.number, image_at_));
        if (!image_holds(banner)) return;
        VolumeRef volume = disc_volume(machine_, disk_);
        if (volume == nullptr || plain_view(*volume) == nullptr) {
            stop(out_, Code::SyslinuxNoFileSystem,
                 std::string("the loader finds no file system that it can read where it was started from") +
                     unread_clause(volume),
                 {evidence_place(fmt::format("d{}", disk_.number), "an ISO 9660 file system")},
                 no_file_system_screen(banner + way_));
            return;
        }
        const std::string spoken = banner + way_;
        const auto module = core_module(*volume, spoken, out_);
        if (!module) return;
        out_.loader_text = fmt::format("{}; {} is there", table_text_, module->place);
        out_.loader_evidence = {evidence_bytes(*disk_.source, image_at_ + 8, 16, {}, table_text_),
                                evidence_place(module->place, {}, "a 32-bit ELF module")};
        if (sum_holds_) prove_module(machine_, *module, out_);
        read_disc_menu(machine_, *volume, spoken, out_);
    }

private:
    /// The image is loaded by the table that the maker of the disc wrote into it, and summed up.
    bool image_holds(const std::string& banner) {
        const auto table = read_boot_information(*disk_.source, image_at_);
        if (!table || table->file_block == 0 || table->length == never_written) {
            // It asks the firmware where it was loaded from, and does not compare anything.
            table_text_ = "its image carries no boot information table, so that nothing tells damage in it";
            return true;
        }
        const Evidence field =
            evidence_bytes(*disk_.source, image_at_ + 8, 16, fmt::format("block {}", image_at_ / block),
                           fmt::format("block {}, {} bytes", table->file_block, table->length));
        const std::uint64_t from = table->file_block * block;
        const auto sum =
            from < disk_.source->size()
                ? boot_image_checksum(*disk_.source, from, table->length)
                : fail(ErrorKind::OutOfRange, "the boot information table names a place that the medium does not have");
        const std::string screen = fmt::format("{}{}isolinux: Image checksum error, sorry...", banner, way_);
        if (!sum) {
            stop(out_, Code::IsolinuxImageUnreadable,
                 fmt::format("the boot image cannot be loaded as a whole: {}", sum.error().what),
                 {field, evidence_error(sum.error())}, fmt::format("{}{}isolinux: Disk error", banner, way_));
            return false;
        }
        if (*sum != table->checksum) {
            stop(out_, Code::IsolinuxImageDamaged, "the boot image fails the checksum that its own first block holds",
                 {evidence_bytes(*disk_.source, image_at_ + 20, 4, fmt::format("{:08x}", *sum),
                                 fmt::format("{:08x}", table->checksum)),
                  Evidence{DiskRange{disk_.number, from, table->length}, {}, {}, {}, {}}},
                 screen);
            return false;
        }
        sum_holds_ = true;
        table_text_ = "the boot image is whole (its checksum holds)";
        return true;
    }

    const Machine& machine_;
    const Disk& disk_;
    std::uint64_t image_at_;
    std::string way_;
    std::string table_text_;
    bool sum_holds_ = false;
    LoaderRun& out_;
};

}  // namespace

bool recognise_disc(std::span<const std::uint8_t> image) {
    // CLI, a far jump, and behind the boot information table the entry for disks.
    return image.size() >= 512 && image[0] == 0xFA && image[1] == 0xEA &&
           ondisk::from_bytes<ondisk::IsolinuxBoot>(image).disk_entry == hybrid_mark;
}

LoaderRun run_disc(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    out.route.push_back(fmt::format("{}: ISOLINUX", place.text()));
    out.first_sector_text = "ISOLINUX's boot image, which loads the rest of itself";
    DiscLoader(machine, place, place.lba * 512, " ETCD", out).run();
    return out;
}

bool recognise_hybrid(std::span<const std::uint8_t> sector) {
    return sector.size() >= 512 && contains(sector, "isolinux.bin missing or corrupt");
}

LoaderRun run_hybrid(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    const auto& source = *place.disk->source;
    out.route.push_back(fmt::format("{}: code for media that start as disc and as disk", place.text()));
    const auto code = source.load<ondisk::HybridBootSector>(place.lba * 512);
    const std::uint64_t sector = code ? std::uint64_t{code->image} : 0;
    out.first_sector_text = fmt::format("code that starts ISOLINUX's boot image from sector {}", sector);
    const auto mark = sector != 0 && sector < source.size() / 512 ? source.load<ondisk::IsolinuxBoot>(sector * 512)
                                                                  : fail(ErrorKind::OutOfRange, "no such sector");
    if (!mark || mark->disk_entry != hybrid_mark) {
        stop(out, Code::IsolinuxPointer,
             (!code && code.error().unreadable()) || (!mark && mark.error().unreadable())
                 ? fmt::format("the boot image in sector {}, to which the first sector sends, cannot be read", sector)
                 : fmt::format("the first sector sends the firmware to sector {} for ISOLINUX's boot image, and that "
                               "is not there",
                               sector),
             {place.evidence(hybrid_pointer, 8, "where isolinux.bin begins", fmt::format("{}", sector))},
             "isolinux.bin missing or corrupt.");
        return out;
    }
    out.next_sector = sector;
    DiscLoader(machine, place, sector * 512, " EHDD", out).run();
    return out;
}

}  // namespace herberge::loader::syslinux
