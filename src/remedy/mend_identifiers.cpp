// SPDX-License-Identifier: MIT
// Identifiers that everything names and no volume has: given back to the volume that they were of.
#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include <herberge/system.hpp>

#include "ondisk/mbr.hpp"
#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"
#include "walk/routes.hpp"

namespace herberge::remedy {

namespace {

/// What the entries of this system (all entries, where it could not be named) say of their root, and nothing answers
/// to.
std::vector<RootReference> unanswered(const Case& stopped) {
    std::vector<RootReference> out;
    std::vector<const MenuEntry*> entries;
    for (const auto& menu : stopped.verdict.menus) walk::collect_leaves(menu.entries, entries);
    for (const auto* entry : entries) {
        const auto root = CommandLine(entry->arguments).value("root");
        if (!root) continue;
        auto reference = resolve_root(stopped.machine, *root);
        if (reference.volume != nullptr || reference.cannot_tell) continue;
        const bool known =
            std::ranges::any_of(out, [&](const RootReference& other) { return other.written == reference.written; });
        if (!known) out.push_back(std::move(reference));
    }
    return out;
}

bool could_be_root(const Volume& volume) {
    const auto* fs = volume.files(Observer::Linux);
    return fs != nullptr && resolve(*fs, "/etc") && (resolve(*fs, "/sbin") || resolve(*fs, "/usr"));
}

void file_system(const Case& stopped, const RootReference& wanted, std::vector<Idea>& out) {
    stopped.machine.each_volume([&](const Volume& volume) {
        if (!could_be_root(volume) || !volume.info.is(Family::Ext)) return;
        const std::string place = volume.place;
        const std::string uuid = wanted.value;
        out.push_back({fmt::format("give the file system of {} the UUID {} that the entries name (it has {})", place,
                                   uuid, volume.info.uuid),
                       "what names it by the UUID that it has now does not find it any more",
                       [place, uuid](Workshop& shop) -> Result<void> {
                           const Machine now = shop.machine();
                           const auto there = now.at(place);
                           if (there == nullptr) return fail(ErrorKind::NotFound, "there is no such volume", place);
                           return set_identifier(shop, *there, uuid);
                       },
                       11});
    });
}

/// "e6e60f06-03": a disk's signature and a partition's number; else a GPT entry's own identifier.
void partition(const Case& stopped, const RootReference& wanted, std::vector<Idea>& out) {
    const std::string& value = wanted.value;
    const auto dash = value.find('-');
    std::uint32_t signature = 0;
    int number = 0;
    const char* begin = value.data();
    const bool of_mbr = dash == 8 && value.size() == 11 &&
                        std::from_chars(begin, begin + 8, signature, 16).ptr == begin + 8 &&
                        std::from_chars(begin + 9, begin + 11, number, 16).ptr == begin + 11;
    for (const auto& disk : stopped.machine.disks) {
        if (disk.optical) continue;
        if (of_mbr && disk.table.kind == TableKind::Mbr && disk.table.find(number) != nullptr) {
            const int on = disk.number;
            const ondisk::little_uint32_t stored(signature);
            out.push_back({fmt::format("give d{} the disk signature {:08x} that the entries name (it has {:08x})", on,
                                       signature, disk.table.disk_signature),
                           "what names the disk by the signature that it has now does not find it any more",
                           [on, stored](Workshop& shop) {
                               return shop.write(on, offsetof(ondisk::Mbr, disk_signature),
                                                 {reinterpret_cast<const std::uint8_t*>(&stored), sizeof(stored)});
                           },
                           11});
        }
    }
}

}  // namespace

void propose_identifiers(const Case& stopped, std::vector<Idea>& out) {
    if (stopped.system.kind == SystemKind::Windows) return;
    for (const auto& wanted : unanswered(stopped)) {
        if (wanted.kind == RootReference::Kind::Uuid) file_system(stopped, wanted, out);
        if (wanted.kind == RootReference::Kind::PartUuid) partition(stopped, wanted, out);
    }
}

}  // namespace herberge::remedy
