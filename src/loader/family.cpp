// SPDX-License-Identifier: MIT
// The table of loader families, and what they share.
#include "loader/family.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "ondisk/linux.hpp"

namespace herberge {

namespace {

constexpr loader::LoaderFamily families[] = {
    {"GRUB 2", [](std::span<const std::uint8_t> sector) { return recognise_grub_boot(sector).has_value(); },
     loader::run_grub_at, loader::grub_configurations},
    {"GRUB 2", [](std::span<const std::uint8_t> sector) { return is_grub_disc_boot(sector); }, loader::run_grub_disc,
     nullptr},
    {"GRUB Legacy", loader::legacy::recognise, loader::legacy::run, loader::legacy::configurations},
    {"SYSLINUX", loader::syslinux::recognise, loader::syslinux::run, loader::syslinux::configurations},
    {"ISOLINUX", loader::syslinux::recognise_disc, loader::syslinux::run_disc, nullptr},
    {"ISOLINUX", loader::syslinux::recognise_hybrid, loader::syslinux::run_hybrid, nullptr},
    {"LILO", loader::lilo::recognise, loader::lilo::run, loader::lilo::configurations},
    {"Windows Boot Manager", loader::windows::recognise_manager, loader::windows::run_manager,
     loader::windows::configurations},
    {"NTLDR", loader::windows::recognise_ntldr, loader::windows::run_ntldr, nullptr},
};

const loader::LoaderFamily* family_of(std::span<const std::uint8_t> sector) {
    if (sector.size() < 512) return nullptr;
    const auto* found =
        std::ranges::find_if(families, [&](const loader::LoaderFamily& f) { return f.recognise(sector); });
    return found != std::end(families) ? found : nullptr;
}

}  // namespace

std::string BootPlace::text() const {
    if (image != 0) return fmt::format("d{} boot image {}", disk->number, image);
    if (volume != nullptr && volume->partition != 0) return volume->place + " boot sector";
    return fmt::format("d{} first sector", disk->number);
}

Evidence BootPlace::evidence(std::uint64_t offset, std::uint64_t length, std::string expected,
                             std::string found) const {
    return evidence_bytes(*disk->source, lba * 512 + offset, length, std::move(expected), std::move(found));
}

std::string_view identify_loader(std::span<const std::uint8_t> sector) {
    const auto* family = family_of(sector);
    return family != nullptr ? family->name : std::string_view{};
}

std::optional<LoaderRun> run_loader(const Machine& machine, const BootPlace& place) {
    const auto sector = place.disk->source->bytes(place.lba * 512, 512);
    const auto* family = sector ? family_of(*sector) : nullptr;
    if (family == nullptr) return std::nullopt;
    auto run = family->run(machine, place);
    run.name = family->name;
    return run;
}

std::vector<Menu> read_configurations(const Machine& machine, const Volume& volume) {
    std::vector<Menu> out;
    if (loader::plain_view(volume) == nullptr) return out;
    for (const auto& family : families)
        if (family.configurations != nullptr)
            for (auto& menu : family.configurations(machine, volume)) out.push_back(std::move(menu));
    return out;
}

namespace loader {

const FileSystem* plain_view(const Volume& volume) { return volume.files(Observer::Loader); }

FileReference refer(const Volume& volume, std::string written, std::string_view path, int line, int most_links) {
    FileReference out;
    out.written = std::move(written);
    out.line = line;
    out.volume = volume.shared_from_this();
    out.place = fmt::format("{}:{}", volume.place, path);
    const FileSystem* fs = plain_view(volume);
    if (fs == nullptr) {
        out.miss(Lack::Absent, "no file system that the loader reads");
        return out;
    }
    const auto found = resolve(*fs, path, {.most_links = most_links, .follow_last = true});
    if (!found) {
        const Lack lack = found.error().lack();
        out.miss(lack, lack == Lack::Absent ? "File not found" : found.error().text());
        if (lack != Lack::Unreadable) out.near_misses = near_misses(*fs, path);
        return out;
    }
    if (found->file.type != FileType::Regular) {
        out.miss(Lack::Absent, "not a regular file");
        return out;
    }
    out.file = found->file.id;
    out.size = found->file.size;
    out.real_path = found->path;
    out.links = found->links;
    return out;
}

ChainTarget first_sector_of(const Source& code) {
    ChainTarget out{code->place(), {}};
    if (const auto where = code->locate(0, 512); !where.empty()) out.code = where.front();
    return out;
}

VolumeRef disc_volume(const Machine& machine, const Disk& disk) {
    for (const auto& partition : disk.table.partitions)
        if (partition.first_lba == 0) return machine.volume(disk.number, partition.number);
    return machine.volume(disk.number, 0);
}

namespace {

/// A file that is there, and of which the medium does not even tell where its bytes lie.
class Lost final : public ByteSource {
public:
    Lost(Error error, std::uint64_t size, std::string place)
        : error_(std::move(error)), size_(size), place_(std::move(place)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] Result<void> read(std::uint64_t /*offset*/, std::span<std::uint8_t> into) const override {
        if (into.empty()) return {};
        return tl::unexpected(error_);
    }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t /*offset*/, std::uint64_t /*length*/) const override {
        return {};
    }
    [[nodiscard]] std::string place() const override { return place_; }

private:
    Error error_;
    std::uint64_t size_;
    std::string place_;
};

}  // namespace

Source open_file(const FileReference& file) {
    if (!file.found()) return nullptr;
    if (file.bytes != nullptr) return file.bytes;
    if (file.volume == nullptr) return nullptr;
    const FileSystem* fs = plain_view(*file.volume);
    if (fs == nullptr) return nullptr;
    const std::string place = fmt::format("{}:{}", file.volume->place, file.real_path);
    auto source = fs->open(file.file, place);
    if (source) return *source;
    // Whoever reads it learns that it is the medium, and not the file, that is at fault.
    if (source.error().unreadable()) return std::make_shared<const Lost>(source.error(), file.size, place);
    return nullptr;
}

std::vector<DiskRange> ranges_of(const Volume& volume, FileId file) {
    std::vector<DiskRange> out;
    const FileSystem* fs = plain_view(volume);
    const auto extents = fs != nullptr ? fs->extents(file) : fail(ErrorKind::NotFound, "no file system");
    if (!extents) return out;
    for (const auto& extent : *extents)
        for (const auto& range : volume.source->locate(extent.base_offset, extent.length)) out.push_back(range);
    return out;
}

bool has_holes(const FileReference& file) {
    const FileSystem* fs = file.volume != nullptr ? plain_view(*file.volume) : nullptr;
    if (fs == nullptr || file.size == 0) return false;
    const auto extents = fs->extents(file.file);
    if (!extents || extents->empty()) return false;
    std::uint64_t at = 0;
    for (const auto& extent : *extents) {
        if (extent.offset > at) return true;
        at = extent.offset + extent.length;
    }
    return at < file.size;
}

std::string unread_clause(const VolumeRef& volume) {
    const auto problem = volume != nullptr ? volume->problem(Observer::Loader) : std::nullopt;
    return problem && problem->unreadable() ? fmt::format(": {} cannot be read", volume->place) : std::string{};
}

std::optional<Error> refuse_linux(const ByteSource& kernel, unsigned most_setup_sectors) {
    const auto bad = [&](std::string why) {
        return Error{ErrorKind::Malformed, std::move(why), kernel.place(), {}, {}};
    };
    const auto setup = kernel.load<ondisk::LinuxSetup>(0x1F1);
    if (!setup) return setup.error().unreadable() ? setup.error() : bad("the file is too short");
    if (setup->boot_flag != 0xAA55) return bad("the mark 55AA at byte 510 is missing");
    if (setup->setup_sectors > most_setup_sectors)
        return bad(fmt::format("it claims {} set-up sectors", static_cast<unsigned>(setup->setup_sectors)));
    return std::nullopt;
}

std::string syslinux_disk_errors(std::uint64_t byte) {
    return fmt::format("CHS: Error … reading sector …\nEDD: Error … reading sector {}\n", byte / 512);
}

void stop(LoaderRun& run, Code code, std::string reason, std::vector<Evidence> evidence, std::string screen) {
    run.stop = broken(make_finding(code, std::move(reason), std::move(evidence), std::move(screen)));
}

void stop(MenuEntry& entry, Code code, std::string reason) {
    if (!entry.stop) entry.stop = make_finding(code, std::move(reason));
}

void stop_without(MenuEntry& entry, const FileReference& file, const MissingFile& codes, std::string reason) {
    switch (file.lack) {
        case Lack::Absent:
        case Lack::Damaged: return stop(entry, codes.absent, std::move(reason));
        case Lack::Unreadable: return stop(entry, codes.unreadable, std::move(reason));
        case Lack::Unsupported:
        case Lack::Exhausted:
            if (entry.unread.empty()) entry.unread = std::move(reason);
            return;
    }
}

}  // namespace loader

}  // namespace herberge
