// SPDX-License-Identifier: MIT
#include "walk/sector_disc.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "ondisk/iso9660.hpp"

namespace herberge::walk {

namespace {

constexpr std::uint64_t sector = 512;
constexpr std::uint64_t block = 2048;

void add(SectorView& view, std::vector<Field> fields) {
    view.fields.insert(view.fields.end(), fields.begin(), fields.end());
}

void catalogue_entries(SectorView& view, const BootCatalogue& catalogue) {
    view.kind = "boot catalogue (El Torito)";
    auto head = ondisk::annotate(ondisk::from_bytes<ondisk::CatalogueValidation>(view.bytes), 0, "validation.");
    for (auto& field : head)
        if (field.name == "validation.checksum")
            field.meaning = catalogue.checksum_holds ? "the words add up to 0" : "the words do not add up to 0";
    add(view, std::move(head));
    std::uint64_t last = 32;
    for (const auto& image : catalogue.images) {
        const std::uint64_t at = image.entry_at - catalogue.offset;
        if (at + 32 > sector) break;
        // What lies between two entries is the head of a section.
        if (at > last && at >= 64)
            add(view, ondisk::annotate(
                          ondisk::from_bytes<ondisk::CatalogueSection>(view.bytes, static_cast<std::size_t>(at - 32)),
                          at - 32, fmt::format("section before {}.", image.number)));
        auto fields =
            ondisk::annotate(ondisk::from_bytes<ondisk::CatalogueEntry>(view.bytes, static_cast<std::size_t>(at)), at,
                             fmt::format("image {}.", image.number));
        for (auto& field : fields) {
            if (field.name.ends_with(".bootable"))
                field.meaning = image.bootable ? "bootable" : "not bootable: should be 88";
            if (field.name.ends_with(".media")) field.meaning = std::string(emulation_name(image.emulation));
            if (field.name.ends_with(".block")) field.meaning = fmt::format("byte {}", image.offset);
        }
        add(view, std::move(fields));
        last = at + 32;
    }
    if (catalogue.refused) view.next = "a BIOS refuses it: " + catalogue.refused->what;
}

void boot_image(SectorView& view, const Disk& disk, const CatalogueImage& image) {
    view.kind = fmt::format("first sector of boot image {} of the boot catalogue", image.number);
    const auto table = read_boot_information(*disk.source, image.offset);
    if (!table || table->file_block * block != image.offset) return;
    auto fields = ondisk::annotate(ondisk::from_bytes<ondisk::BootInformation>(view.bytes, 8), 8, "boot information.");
    const auto sum = boot_image_checksum(*disk.source, image.offset, table->length);
    for (auto& field : fields)
        if (field.name.ends_with(".checksum"))
            field.meaning = !sum                      ? "cannot be computed: " + sum.error().what
                            : *sum == table->checksum ? "it holds"
                                                      : fmt::format("should be {:08x}", *sum);
    view.fields = std::move(fields);
}

}  // namespace

bool view_disc_sector(SectorView& view, const Disk& disk, std::uint64_t lba) {
    if (!disk.catalogue) return false;
    const auto& catalogue = *disk.catalogue;
    if (lba == catalogue.offset / sector) {
        catalogue_entries(view, catalogue);
        return true;
    }
    if (lba == 17 * block / sector) {
        view.kind = "boot record volume descriptor";
        view.fields = ondisk::annotate(ondisk::from_bytes<ondisk::IsoBootRecord>(view.bytes));
        view.next = fmt::format("the boot catalogue is block {}, byte {}", catalogue.offset / block, catalogue.offset);
        return true;
    }
    if (lba == 16 * block / sector) {
        view.kind = "primary volume descriptor (ISO 9660)";
        view.fields = ondisk::annotate(ondisk::from_bytes<ondisk::IsoVolumeDescriptor>(view.bytes));
        return true;
    }
    const auto image = std::ranges::find_if(
        catalogue.images, [&](const CatalogueImage& i) { return i.offset / sector == lba && lba != 0; });
    if (image == catalogue.images.end()) return false;
    boot_image(view, disk, *image);
    return true;
}

}  // namespace herberge::walk
