// SPDX-License-Identifier: MIT
// Devices as the boot store's elements name them, and RAM disks made of imaging files.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/wim.hpp>

#include "bytes/text16.hpp"
#include "loader/family.hpp"
#include "loader/windows/store.hpp"
#include "ondisk/describe.hpp"
#include "ondisk/windows.hpp"

namespace herberge::loader::windows {

namespace {

using Span = std::span<const std::uint8_t>;

namespace kind {
constexpr std::uint32_t local = 0, boot = 5, partition = 6, locate = 8;
constexpr std::uint32_t local_ram_disk = 3, local_file = 5, local_virtual_disk = 6;
}  // namespace kind

constexpr std::size_t partition_size = sizeof(ondisk::StoreDevice) + sizeof(ondisk::StoreMbrPartition);

Device decode(const Machine& machine, const ondisk::StoreDevice& head, Span body, const VolumeRef& boot, bool nested);

void partition(const Machine& machine, Span body, Device& out) {
    out.kind = Device::Kind::Partition;
    if (const auto told = ondisk::from_bytes<ondisk::StoreMbrPartition>(body); told.style == 1) {
        const std::uint64_t offset = told.offset;
        const std::uint32_t signature = told.signature;
        out.text = fmt::format("the partition at byte {} of the disk with signature {:08x}", offset, signature);
        machine.each_volume([&](const Volume& v) {
            const auto where = v.source->locate(0, std::min<std::uint64_t>(v.source->size(), 512));
            const Disk* disk = machine.disk(v.disk);
            if (out.volume == nullptr && v.partition != 0 && disk->table.kind == TableKind::Mbr &&
                disk->table.disk_signature == signature && !where.empty() && where.front().offset == offset)
                out.volume = v.shared_from_this();
        });
        return;
    }
    const auto told = ondisk::from_bytes<ondisk::StoreGptPartition>(body);
    const std::string number = ondisk::guid_at(told.partition, 0);
    const std::string disk_guid = ondisk::guid_at(told.disk, 0);
    out.text = fmt::format("the partition {} of the disk {}", number, disk_guid);
    machine.each_volume([&](const Volume& v) {
        const Disk* disk = machine.disk(v.disk);
        if (out.volume == nullptr && v.partition != 0 && disk->table.kind == TableKind::Gpt &&
            lower_text(v.partuuid) == number && lower_text(disk->table.disk_guid) == disk_guid)
            out.volume = v.shared_from_this();
    });
}

/// A RAM disk's or a file's device: somewhere in it a device of its own, and behind that the path to its end. What
/// stands between differs, so that it is looked for.
void file_device(const Machine& machine, Span body, const VolumeRef& boot, Device& out) {
    for (std::size_t at = 4; at + 16 < body.size(); at += 4) {
        ondisk::StoreDevice head;
        head.type = ondisk::from_bytes<ondisk::little_uint32_t>(body, at);
        head.size = ondisk::from_bytes<ondisk::little_uint32_t>(body, at + 8);
        const std::uint32_t type = head.type, size = head.size;
        if ((type != kind::boot && type != kind::partition && type != kind::locate) || size < 16 ||
            size > body.size() - at || ondisk::from_bytes<ondisk::little_uint32_t>(body, at + 12) != 0)
            continue;
        if (type == kind::partition && size + 16 < partition_size) continue;
        const auto path = utf8_from(units_from(body.subspan(at + size), false, true));
        if (!path.starts_with('\\')) continue;
        const Device inner = decode(machine, head, body.subspan(at + 16), boot, true);
        out.volume = inner.volume;
        out.path = path;
        out.text = fmt::format("{} on {}", printable(path), inner.text);
        if (inner.kind == Device::Kind::Locate)
            machine.each_volume([&](const Volume& v) {
                if (out.volume == nullptr && plain_view(v) != nullptr && refer(v, path, slashes(path), 0).found())
                    out.volume = v.shared_from_this();
            });
        return;
    }
    out.text = "a file that its record does not tell";
}

Device decode(const Machine& machine, const ondisk::StoreDevice& head, Span body, const VolumeRef& boot, bool nested) {
    Device out;
    switch (head.type) {
        case kind::boot:
            out.kind = Device::Kind::Boot;
            out.volume = boot;
            out.text = "the volume the boot manager was started from";
            return out;
        case kind::locate:
            out.kind = Device::Kind::Locate;
            out.text = "wherever its file is found";
            return out;
        case kind::partition:
            if (body.size() < sizeof(ondisk::StoreMbrPartition)) break;
            partition(machine, body, out);
            return out;
        case kind::local: {
            const std::uint32_t local = ondisk::from_bytes<ondisk::little_uint32_t>(body);
            if (nested || (local != kind::local_ram_disk && local != kind::local_file)) {
                out.text = local == kind::local_virtual_disk ? "a virtual disk in a file"
                                                             : fmt::format("a local device of type {}", local);
                return out;
            }
            out.kind = local == kind::local_ram_disk ? Device::Kind::Ramdisk : Device::Kind::File;
            file_device(machine, body, boot, out);
            return out;
        }
        default: break;
    }
    out.text = fmt::format("a device of type {}", std::uint32_t{head.type});
    return out;
}

}  // namespace

std::string slashes(std::string path) {
    std::ranges::replace(path, '\\', '/');
    return path.starts_with('/') ? path : fmt::format("/{}", path);
}

Device decode_device(const Machine& machine, const HiveValue& value, const VolumeRef& boot) {
    // An options object (16 bytes), then type, flags, size, a spare word, then what the type asks for.
    const Span bytes(value.data);
    const auto head = ondisk::from_bytes<ondisk::StoreDevice>(bytes);
    if (bytes.size() < sizeof(head)) {
        Device out;
        out.text = "a device record that is too short";
        return out;
    }
    auto out = decode(machine, head, bytes.subspan(sizeof(head)), boot, false);
    out.options = "{" + ondisk::guid_at(bytes, 0) + "}";
    return out;
}

namespace {

/// Why no RAM disk can be made of this file; none: it can. Sets `inside`.
std::optional<Finding> refuse_image(const FileReference& image, VolumeRef& inside) {
    const auto damaged = [&](const Error& error) {
        return make_finding(error.unreadable() ? Code::WindowsImageUnreadable : Code::WindowsImageDamaged,
                            fmt::format("{} cannot become a RAM disk: {}", image.place, error.what),
                            {evidence_error(error)});
    };
    const auto source = open_file(image);
    if (source == nullptr)
        return make_finding(Code::WindowsImageUnreadable, fmt::format("{} cannot be opened", image.place),
                            {evidence_place(image.place)});
    const auto told = inspect_wim(*source);
    if (!told && told.error().kind == ErrorKind::NotFound)
        return make_finding(Code::WindowsImageDamaged, fmt::format("{} is no imaging file", image.place),
                            {evidence_bytes(*source, 0, std::min<std::uint64_t>(8, source->size()), "MSWIM")});
    if (!told && told.error().kind != ErrorKind::Unsupported) return damaged(told.error());
    inside = std::make_shared<const Volume>(NodeKind::PackedFile, source, std::vector{image.volume}, LayerNames{});
    if (!told) return std::nullopt;
    if (told->boot_image == 0)
        return make_finding(Code::WindowsImageDamaged,
                            fmt::format("no image in {} is marked to be started", image.place),
                            {evidence_bytes(*source, 120, 4, "the number of an image", "0")});
    if (const auto problem = inside->problem(Observer::WindowsLoader);
        problem && problem->kind != ErrorKind::Unsupported && problem->kind != ErrorKind::Exhausted)
        return damaged(*problem);
    return std::nullopt;
}

/// Why the file that a RAM disk begins with cannot be used.
std::optional<Finding> refuse_head(const FileReference& head) {
    if (!head.found())
        return make_finding(
            Code::WindowsRamDiskHead,
            fmt::format("{}, which the RAM disk begins with, {}", head.place,
                        head.unreadable() ? "cannot be read: " + *head.error : std::string("is not there")),
            {evidence_place(head.place, "a file", head.unreadable() ? "unreadable" : "absent")});
    const auto source = open_file(head);
    const auto mark =
        source != nullptr && source->size() >= 8 ? source->bytes(0, 8) : fail(ErrorKind::OutOfRange, "it is cut short");
    static constexpr std::string_view wanted = "$SDI0001";
    if (mark &&
        std::ranges::equal(*mark, wanted, [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); }))
        return std::nullopt;
    return make_finding(
        Code::WindowsRamDiskHead,
        fmt::format("{}, which the RAM disk begins with, {}", head.place,
                    mark ? std::string("is no such file") : "cannot be read: " + mark.error().what),
        {mark ? evidence_bytes(*source, 0, 8, "$SDI0001") : evidence_place(head.place, "$SDI0001", "unreadable")});
}

}  // namespace

RamDisk open_ram_disk(const Machine& machine, const Store& store, const Device& device, const VolumeRef& boot) {
    RamDisk out;
    out.image.written = device.path;
    if (device.path.empty()) {
        out.untold = "the store's record of its RAM disk names no file that is understood here";
        return out;
    }
    if (device.volume == nullptr || plain_view(*device.volume) == nullptr) {
        out.image.miss(Lack::Absent, "no such volume");
        out.problem =
            device.volume == nullptr
                ? make_finding(Code::StoreDeviceGone,
                               fmt::format("its RAM disk is {}, and nothing here answers to that", device.text), {})
                : make_finding(Code::StoreDeviceUnreadable,
                               fmt::format("its RAM disk is a file on {}, whose file system cannot be read",
                                           device.volume->place),
                               {});
        return out;
    }
    out.image = refer(*device.volume, device.path, slashes(device.path), 0);
    if (!out.image.found()) {
        const bool unreadable = out.image.unreadable();
        out.problem =
            make_finding(unreadable ? Code::WindowsImageUnreadable : Code::WindowsImageMissing,
                         fmt::format("its RAM disk is made of {}, which {}", out.image.place,
                                     unreadable ? "cannot be read: " + *out.image.error : std::string("is not there")),
                         {evidence_place(out.image.place, "an imaging file", unreadable ? "unreadable" : "absent")});
        return out;
    }
    out.problem = refuse_image(out.image, out.volume);
    if (out.problem) return out;
    const Object* options = store.find(device.options);
    const auto* head_device = options != nullptr ? store.value(*options, element::head_device) : nullptr;
    const std::string head_path = options != nullptr ? store.text(*options, element::head_path) : std::string{};
    if (head_path.empty()) {
        out.untold = "the store does not say what its RAM disk begins with";
        return out;
    }
    const Device where = head_device != nullptr ? decode_device(machine, *head_device, boot) : Device{};
    const VolumeRef volume = where.volume != nullptr ? where.volume : device.volume;
    out.problem = refuse_head(refer(*volume, head_path, slashes(head_path), 0));
    return out;
}

}  // namespace herberge::loader::windows
