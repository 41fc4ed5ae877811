// SPDX-License-Identifier: MIT
// The drive letters that a Windows installation has recorded.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/startup.hpp>

#include "bytes/text16.hpp"
#include "ondisk/describe.hpp"
#include "ondisk/windows.hpp"
#include "system/windows.hpp"

namespace herberge {

Result<std::vector<DriveLetter>> windows_drive_letters(const Machine& machine, const InstalledSystem& system) {
    const auto hive = open_windows_hive(*system.volume, system.directory, "SYSTEM");
    if (!hive) return tl::unexpected(hive.error());
    const auto key = (*hive)->at("MountedDevices");
    const auto all = key ? (*hive)->values(*key) : tl::unexpected(key.error());
    if (!all) return tl::unexpected(all.error());
    std::vector<DriveLetter> out;
    constexpr std::string_view lead = "\\DosDevices\\";
    for (const auto& value : *all) {
        if (!value.name.starts_with(lead)) continue;
        DriveLetter letter;
        letter.letter = value.name.substr(lead.size());
        const std::span<const std::uint8_t> data(value.data);
        if (data.size() == sizeof(ondisk::MountedPartition)) {
            const auto told = ondisk::from_bytes<ondisk::MountedPartition>(data);
            const std::uint32_t signature = told.signature;
            const std::uint64_t offset = told.offset;
            letter.text = fmt::format("disk signature {:08x}, byte {}", signature, offset);
            machine.each_volume([&](const Volume& v) {
                const auto where = v.source->locate(0, std::min<std::uint64_t>(v.source->size(), 512));
                if (v.partition != 0 && machine.disk(v.disk)->table.disk_signature == signature && !where.empty() &&
                    where.front().offset == offset)
                    letter.volume = v.shared_from_this();
            });
        } else if (data.size() == 24 && std::equal(data.begin(), data.begin() + 8, "DMIO:ID:")) {
            const std::string guid = ondisk::guid_at(data, 8);
            letter.text = "partition " + guid;
            letter.volume = machine.by_partuuid(guid);
        } else {
            letter.text = printable(utf8_from(units_from(data)));
        }
        out.push_back(std::move(letter));
    }
    std::ranges::sort(out, {}, &DriveLetter::letter);
    return out;
}

}  // namespace herberge
