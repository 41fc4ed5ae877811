// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/optical.hpp>

#include "files/stored.hpp"
#include "ondisk/iso9660.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t block = 2048;
constexpr std::uint64_t record_at = 17 * block;
constexpr std::size_t most_images = 64;
constexpr std::size_t entry_size = sizeof(ondisk::CatalogueEntry);

Emulation emulation_of(std::uint8_t media) {
    const unsigned kind = media & 0x0FU;
    return kind <= 4 ? static_cast<Emulation>(kind) : Emulation::Unknown;
}

}  // namespace

std::string_view emulation_name(Emulation emulation) {
    switch (emulation) {
        case Emulation::None: return "no emulation";
        case Emulation::Floppy1200: return "as a 1.2 MB floppy disk";
        case Emulation::Floppy1440: return "as a 1.44 MB floppy disk";
        case Emulation::Floppy2880: return "as a 2.88 MB floppy disk";
        case Emulation::HardDisk: return "as a hard disk";
        case Emulation::Unknown: break;
    }
    return "unknown emulation";
}

namespace {

constexpr std::string_view record_mark = "EL TORITO SPECIFICATION";

bool has_volume_id(const ondisk::Bytes<5>& id) { return stored::begins(id, "CD001"); }

class Catalogue {
public:
    Catalogue(const ByteSource& medium, const ondisk::IsoBootRecord& record) : medium_(medium), record_(record) {}

    BootCatalogue read() {
        out_.offset = std::uint64_t{record_.catalogue} * block;
        const auto bytes = out_.offset < medium_.size()
                               ? medium_.bytes(out_.offset, std::min(block, medium_.size() - out_.offset))
                               : fail(ErrorKind::OutOfRange, "the boot catalogue lies past the end of the medium");
        if (!bytes || bytes->size() < 2 * entry_size) {
            refuse(7, problem("the boot catalogue cannot be read",
                              record_at + offsetof(ondisk::IsoBootRecord, catalogue), "a block of the medium",
                              fmt::format("block {}", static_cast<std::uint32_t>(record_.catalogue))));
            out_.passed_over = out_.refused;
            return std::move(out_);
        }
        bytes_ = *bytes;
        check_ = ondisk::from_bytes<ondisk::CatalogueValidation>(bytes_);
        std::uint16_t sum = 0;
        for (std::size_t i = 0; i < entry_size; i += 2)
            sum = static_cast<std::uint16_t>(sum + ondisk::from_bytes<ondisk::little_uint16_t>(bytes_, i));
        out_.checksum_holds = sum == 0;
        if (check_.header == 1) list_images();
        judge_as_bios();
        judge_as_uefi();
        return std::move(out_);
    }

private:
    [[nodiscard]] Error problem(std::string what, std::uint64_t at, std::string expected, std::string found) const {
        return {ErrorKind::Malformed, std::move(what), fmt::format("{} byte {}", medium_.place(), at),
                std::move(expected), std::move(found)};
    }
    void refuse(int code, Error why) {
        if (out_.refused) return;
        out_.refused = std::move(why);
        out_.refusal_code = code;
    }

    void add(std::size_t at, std::uint8_t platform, bool listed) {
        const auto entry = ondisk::from_bytes<ondisk::CatalogueEntry>(bytes_, at);
        CatalogueImage image;
        image.number = static_cast<int>(out_.images.size()) + 1;
        image.platform = platform;
        image.listed = listed;
        image.bootable = entry.bootable == bootable;
        image.emulation = emulation_of(entry.media);
        image.segment = entry.segment != 0 ? static_cast<std::uint16_t>(entry.segment) : std::uint16_t{0x07C0};
        image.sectors = entry.sectors;
        image.offset = std::uint64_t{entry.block} * block;
        image.entry_at = out_.offset + at;
        out_.images.push_back(image);
    }

    void list_images() {
        std::uint8_t platform = check_.platform;
        add(entry_size, platform, true);
        for (std::size_t at = 2 * entry_size; at + entry_size <= bytes_.size();) {
            const auto section = ondisk::from_bytes<ondisk::CatalogueSection>(bytes_, at);
            if (section.header != 0x90 && section.header != 0x91) break;
            platform = section.platform;
            at += entry_size;
            for (unsigned i = 0;
                 i < section.entries && at + entry_size <= bytes_.size() && out_.images.size() < most_images; ++i) {
                add(at, platform, true);
                at += entry_size;
                // Extensions of selection criteria (El Torito, figure 6).
                while (at + entry_size <= bytes_.size() && bytes_[at] == 0x44) at += entry_size;
            }
            if (section.header == 0x91) break;
        }
        // UEFI firmware does not count: it takes each entry that has the mark of one.
        for (std::size_t at = 2 * entry_size; at + entry_size <= bytes_.size() && out_.images.size() < most_images;
             at += entry_size)
            if (bytes_[at] == bootable &&
                std::ranges::find(out_.images, out_.offset + at, &CatalogueImage::entry_at) == out_.images.end())
                add(at, platform, false);
    }

    /// What a BIOS looks at, in its order.
    void judge_as_bios() {
        if (record_.type != 0)
            refuse(4, problem("sector 17 is not a boot record", record_at, "00", fmt::format("{:02x}", record_.type)));
        if (!has_volume_id(record_.id) || record_.version != 1)
            refuse(5, problem("the boot record lacks the mark of a volume descriptor", record_at + 1, "CD001 and 01",
                              fmt::format("{} {:02x}", hex(record_.id), record_.version)));
        if (check_.header != 1)
            refuse(8, problem("the boot catalogue does not begin with a validation entry", out_.offset, "01",
                              fmt::format("{:02x}", check_.header)));
        if (check_.platform != 0)
            refuse(9, problem("the boot catalogue's first entry is for another platform", out_.offset + 1, "00 (x86)",
                              fmt::format("{:02x}", check_.platform)));
        if (!has_key())
            refuse(10, problem("the boot catalogue's validation entry lacks its mark", out_.offset + 30, "55 aa",
                               hex(check_.key)));
        if (bytes_[entry_size] != bootable)
            refuse(11, problem("the boot catalogue's first entry is marked as not bootable", out_.offset + entry_size,
                               "88", fmt::format("{:02x}", bytes_[entry_size])));
    }

    /// What UEFI firmware looks at; not the platforms, and not what the sections count.
    void judge_as_uefi() {
        constexpr std::uint64_t first_descriptor = 16 * block;
        const auto first = medium_.load<ondisk::IsoVolumeDescriptor>(first_descriptor);
        if (!first) out_.passed_over = first.error();
        else if (!has_volume_id(first->id) || first->type == 255)
            out_.passed_over = problem("the list of volume descriptors ends before the boot record", first_descriptor,
                                       "CD001", hex(first->id));
        else if (record_.type != 0 || !has_volume_id(record_.id))
            out_.passed_over = problem("sector 17 is not a boot record", record_at, "00 and CD001",
                                       fmt::format("{:02x} {}", record_.type, hex(record_.id)));
        else if (check_.header != 1)
            out_.passed_over = problem("the boot catalogue does not begin with a validation entry", out_.offset, "01",
                                       fmt::format("{:02x}", check_.header));
        else if (!has_key())
            out_.passed_over = problem("the boot catalogue's validation entry lacks its mark", out_.offset + 30,
                                       "55 aa", hex(check_.key));
        else if (!out_.checksum_holds)
            out_.passed_over = problem("the boot catalogue's validation entry fails its checksum", out_.offset,
                                       "words that add up to 0", "another sum");
    }

    [[nodiscard]] bool has_key() const { return check_.key[0] == 0x55 && check_.key[1] == 0xAA; }

    static constexpr std::uint8_t bootable = 0x88;
    const ByteSource& medium_;
    const ondisk::IsoBootRecord& record_;
    BootCatalogue out_;
    std::vector<std::uint8_t> bytes_;
    ondisk::CatalogueValidation check_{};
};

}  // namespace

std::optional<BootCatalogue> read_boot_catalogue(const ByteSource& medium) {
    const auto record = medium.load<ondisk::IsoBootRecord>(record_at);
    if (!record || !stored::begins(record->system, record_mark)) return std::nullopt;
    return Catalogue(medium, *record).read();
}

BootCatalogue no_boot_catalogue(const ByteSource& medium) {
    BootCatalogue out;
    const auto record = medium.load<ondisk::IsoBootRecord>(record_at);
    // The numbers are those of SeaBIOS (src/cdrom.c).
    out.refusal_code = !record ? 3 : record->type != 0 ? 4 : 5;
    out.refused = record ? Error{ErrorKind::Malformed, "the disc has no boot record",
                                 fmt::format("{} byte {}", medium.place(), record_at + 7), std::string(record_mark),
                                 hex(std::span(record->system).first(8))}
                         : record.error();
    out.passed_over = out.refused;
    return out;
}

Result<BootInformationTable> read_boot_information(const ByteSource& medium, std::uint64_t image_offset) {
    const auto table = medium.load<ondisk::BootInformation>(image_offset + 8);
    if (!table) return tl::unexpected(table.error());
    return BootInformationTable{table->descriptor, table->file, table->length, table->checksum};
}

Result<std::uint32_t> boot_image_checksum(const ByteSource& medium, std::uint64_t image_offset, std::uint64_t length) {
    constexpr std::uint64_t most = std::uint64_t{16} << 20U;
    constexpr std::uint64_t covered_from = 64;
    if (length < covered_from)
        return fail(ErrorKind::OutOfRange, "a boot image shorter than its own table", medium.place());
    // The last dword may reach past the image: blocks are filled with zeros.
    const auto bytes = medium.bytes(image_offset + covered_from, length - covered_from, most);
    if (!bytes) return tl::unexpected(bytes.error());
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < bytes->size(); ++i) sum += std::uint32_t{(*bytes)[i]} << (i % 4 * 8);
    return sum;
}

}  // namespace herberge
