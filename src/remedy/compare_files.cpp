// SPDX-License-Identifier: MIT
// The files that a start reads, on two machines beside each other.
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <map>

#include <herberge/digest.hpp>
#include <herberge/efi_files.hpp>
#include <herberge/places.hpp>

#include "remedy/differences.hpp"
#include "remedy/edits.hpp"
#include "walk/routes.hpp"

namespace herberge::remedy {

namespace {

constexpr std::uint64_t most_compared = std::uint64_t{64} << 20U;
constexpr std::uint64_t most_taken_back = std::uint64_t{16} << 20U;
constexpr std::size_t most_files = 4000;

struct Named {
    Stage stage = Stage::Services;
    FileRole role = FileRole::Plain;
};
using Places = std::map<std::string, Named>;

void name(Places& out, const std::string& place, Stage stage, FileRole role = FileRole::Plain) {
    if (!file_place(place) || out.size() >= most_files) return;
    auto& one = out[place];
    one.stage = std::min(one.stage, stage);
    if (role != FileRole::Plain) one.role = role;
}

void name_menu(Places& out, const Menu& menu) {
    name(out, menu.place, Stage::Configuration);
    std::vector<const MenuEntry*> entries;
    walk::collect_leaves(menu.entries, entries);
    for (const auto* entry : entries) {
        name(out, entry->place, Stage::Configuration);
        const auto files = [&](const std::vector<FileReference>& all, Stage stage, FileRole role) {
            for (const auto& file : all)
                if (file.found() && file.volume != nullptr)
                    name(out, FilePlace{file.volume->place, file.real_path}.text(), stage, role);
        };
        const bool linux = entry->kind == EntryKind::Linux;
        files(entry->kernel, Stage::Kernel, linux ? FileRole::Kernel : FileRole::Plain);
        files(entry->ramdisks, Stage::Ramdisk, FileRole::Ramdisk);
        files(entry->devicetree, Stage::Entry, FileRole::Plain);
    }
}

/// What the evidence of every stage names, what menus name, the applications of UEFI, and what an init reads.
Places places_of(const Sides& sides) {
    Places out;
    for (const auto* side : {&sides.before, &sides.after}) {
        for (const auto& system : side->verdict.systems)
            for (const auto& rung : system.stages)
                for (const auto& one : rung.evidence) name(out, one.place, rung.stage);
        for (const auto& menu : side->verdict.menus) name_menu(out, menu);
        for (const auto& run : side->runs)
            for (const auto& path : run.start.files) name(out, FilePlace{run.place, path}.text(), Stage::Services);
        if (side->verdict.firmware == FirmwareKind::Uefi)
            for (const auto& file : find_efi_files(side->machine, side->options.variables, side->options.efi_machine))
                name(out, file.place, Stage::BootCode);
    }
    return out;
}

std::string size_and_digest(const ByteSource& source, const std::string& digest) {
    constexpr std::size_t shown_digits = 16;
    return digest.empty() ? fmt::format("{}, cannot be read whole", size_text(source.size()))
                          : fmt::format("{} bytes, SHA-256 {}…", source.size(), digest.substr(0, shown_digits));
}

/// How a file that is not there, or cannot be opened, is told.
std::string absence(const Error& error) {
    return error.lack() == Lack::Absent ? std::string{} : "cannot be read: " + error.text();
}

TakeBack content_back(const FilePlace& place, const PlacedFile& file) {
    if (file.bytes->size() > most_taken_back) return {};
    return [place, content = file.bytes, mode = file.found.file.permissions](Workshop& shop, CheckOptions&) {
        const auto bytes = content->bytes(0, content->size(), most_taken_back);
        if (!bytes) return false;
        if (set_content(shop, place.volume, place.path, *bytes)) return true;
        if (!put_file(shop, place.volume, place.path, *bytes)) return false;
        // A new file is no program yet; not every file system has such permissions.
        (void)set_permissions(shop, place.volume, place.path, mode);
        return true;
    };
}

void compare_file(const Sides& sides, const std::string& text, const Named& named, Differences& out) {
    const auto place = *file_place(text);
    if (!both_have_files(sides, place.volume)) return;
    const auto was = open_file(sides.before.machine, place);
    const auto is = open_file(sides.after.machine, place);
    if (!was && !is) {
        differ(out, named.stage, text, "file", absence(was.error()), absence(is.error()));
        return;
    }
    const auto one = was ? sha256_of(*was->bytes, most_compared) : std::string{};
    const auto other = is ? sha256_of(*is->bytes, most_compared) : std::string{};
    if (was && is && was->bytes->size() == is->bytes->size() && one == other && !one.empty()) {
        const auto mode = [](const PlacedFile& file) { return fmt::format("{:04o}", file.found.file.permissions); };
        auto* seen = differ(out, named.stage, text, "permissions", mode(*was), mode(*is));
        if (seen != nullptr)
            seen->take_back = [place, mode = was->found.file.permissions](Workshop& shop, CheckOptions&) {
                return set_permissions(shop, place.volume, place.path, mode).has_value();
            };
        differ(out, named.stage, text, "the file that it leads to", was->found.path, is->found.path);
        return;
    }
    if (!was || !is) {
        auto* seen =
            differ(out, named.stage, text, "file", was ? size_and_digest(*was->bytes, one) : absence(was.error()),
                   is ? size_and_digest(*is->bytes, other) : absence(is.error()));
        if (seen == nullptr) return;
        seen->told.details = was ? lines_of_short(*was->bytes, "-") : lines_of_short(*is->bytes, "+");
        if (was) seen->take_back = content_back(place, *was);
        else
            seen->take_back = [place](Workshop& shop, CheckOptions&) {
                return hide_file(shop, place.volume, place.path).has_value();
            };
        return;
    }
    auto account = account_of(sides, named.role, *was->bytes, *is->bytes);
    // Two files that differ may be the same in short.
    if (account.before == account.after) {
        account.before = size_and_digest(*was->bytes, one);
        account.after = size_and_digest(*is->bytes, other);
    }
    auto* seen = differ(out, named.stage, text, "content", std::move(account.before), std::move(account.after));
    if (seen == nullptr) return;
    seen->told.details = std::move(account.details);
    seen->take_back = content_back(place, *was);
}

}  // namespace

bool both_have_files(const Sides& sides, const std::string& place) {
    return std::ranges::all_of(std::array{&sides.before.machine, &sides.after.machine}, [&](const Machine* machine) {
        const auto volume = machine->at(place);
        return volume != nullptr && volume->files(Observer::Linux) != nullptr;
    });
}

void compare_files(const Sides& sides, Differences& out) {
    for (const auto& [place, named] : places_of(sides)) compare_file(sides, place, named, out);
}

}  // namespace herberge::remedy
