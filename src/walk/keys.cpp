// SPDX-License-Identifier: MIT
// Keys that a machine carries itself: in its RAM disks, and on volumes that are open already.
#include <fmt/format.h>
#include <algorithm>
#include <charconv>
#include <set>

#include <herberge/chain.hpp>

#include "bytes/listed.hpp"
#include "system/crypttab.hpp"
#include "walk/artifacts.hpp"
#include "walk/routes.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t most_key = std::uint64_t{8} << 20U;

/// "keyfile-offset=512": the number behind an option of a crypttab line.
std::uint64_t option_number(std::string_view options, std::string_view name, std::uint64_t otherwise) {
    std::uint64_t out = otherwise;
    any_listed(options, [&](std::string_view one) {
        if (!one.starts_with(name) || one.size() <= name.size() || one[name.size()] != '=') return false;
        const auto digits = one.substr(name.size() + 1);
        return std::from_chars(digits.data(), digits.data() + digits.size(), out).ec == std::errc{};
    });
    return out;
}

class Finder {
public:
    explicit Finder(const Machine& machine) : machine_(machine) {}

    std::vector<VolumeKey> run() {
        for (const auto& menu : read_menus(machine_)) in_menu(menu);
        machine_.each_volume(Observer::Linux, [&](const Volume& volume) {
            if (volume.files(Observer::Linux) == nullptr) return;
            in_system(volume);
        });
        return std::move(out_);
    }

private:
    void in_menu(const Menu& menu) {
        std::vector<const MenuEntry*> entries;
        walk::collect_leaves(menu.entries, entries);
        for (const auto* entry : entries) in_entry(*entry);
    }

    void in_entry(const MenuEntry& entry) {
        if (entry.ramdisks.empty() ||
            !std::ranges::all_of(entry.ramdisks, [](const FileReference& f) { return f.found(); }))
            return;
        std::string id = entry.arguments;
        for (const auto& file : entry.ramdisks) id += "\n" + file.where();
        if (!seen_.insert(id).second) return;
        const auto held = artifacts_.ramdisk(entry.ramdisks);
        if (!held->has_value()) return;
        const Ramdisk& ramdisk = **held;
        const CommandLine arguments(entry.arguments);
        const auto& last = entry.ramdisks.back();
        for (const auto& line : opened_at_start(machine_, &ramdisk, arguments)) {
            std::string path = line.key;
            // mkinitcpio's "encrypt" takes cryptkey=rootfs:PATH, and this file where nothing is said.
            if (path.empty() && arguments.value("cryptdevice")) {
                const auto given = arguments.value("cryptkey").value_or("rootfs:/crypto_keyfile.bin");
                if (given.starts_with("rootfs:")) path = given.substr(7);
            }
            if (!path.starts_with('/')) continue;
            const auto* file = ramdisk.find(std::string_view(path).substr(1));
            if (file == nullptr || file->content.empty()) continue;
            take(line, {file->content.begin(), file->content.end()},
                 fmt::format("{}:{}:{}", last.volume->place, last.real_path, path));
        }
    }

    /// What a system opens once it runs: its other volumes.
    void in_system(const Volume& volume) {
        const auto& fs = *volume.files(Observer::Linux);
        const auto bytes = [&](std::string_view path) -> std::vector<std::uint8_t> {
            const auto found = resolve(fs, path);
            if (!found || found->file.type != FileType::Regular) return {};
            const auto file = fs.open(found->file.id, fmt::format("{}:{}", volume.place, path));
            const auto content = file ? (*file)->bytes(0, (*file)->size(), most_key) : tl::unexpected(file.error());
            return content ? *content : std::vector<std::uint8_t>{};
        };
        const auto table = read_text_file(fs, "/etc/crypttab");
        if (!table) return;
        for (const auto& line : parse_crypttab(machine_, *table, volume.place + ":/etc/crypttab")) {
            if (!line.key.starts_with('/') || line.key.starts_with("/dev/")) continue;
            take(line, bytes(line.key), fmt::format("{}:{}", volume.place, line.key));
        }
    }

    void take(const CryptLine& line, std::vector<std::uint8_t> bytes, const std::string& origin) {
        if (line.volume == nullptr || !is_locked(machine_, *line.volume) ||
            line.options.find("keyscript=") != std::string::npos)
            return;
        const auto from = option_number(line.options, "keyfile-offset", 0);
        if (from >= bytes.size()) return;
        const auto size =
            std::min<std::uint64_t>(option_number(line.options, "keyfile-size", bytes.size()), bytes.size() - from);
        const auto begin = bytes.begin() + static_cast<std::ptrdiff_t>(from);
        Secret secret(std::vector<std::uint8_t>(begin, begin + static_cast<std::ptrdiff_t>(size)));
        const auto known = std::ranges::any_of(out_, [&](const VolumeKey& key) {
            return key.place == line.volume->place && std::ranges::equal(key.secret->bytes(), secret.bytes());
        });
        if (!known && !secret.empty())
            out_.push_back({line.volume->place, std::make_shared<const Secret>(std::move(secret)), origin});
    }

    const Machine& machine_;
    walk::Artifacts artifacts_;
    std::set<std::string> seen_;
    std::vector<VolumeKey> out_;
};

bool any_locked(const Machine& machine) {
    bool out = false;
    machine.each_volume(Observer::Linux, [&](const Volume& volume) { out = out || is_locked(machine, volume); });
    return out;
}

}  // namespace

std::vector<VolumeKey> carried_keys(const Machine& machine) {
    return any_locked(machine) ? Finder(machine).run() : std::vector<VolumeKey>{};
}

void open_layers(Machine& machine, std::vector<VolumeKey> keys) {
    constexpr int most_rounds = 4;  // a key on a volume that a key on another volume opens, and so on
    std::vector<VolumeKey> carried;
    machine.more_layers = {luks_layer(std::move(keys))};
    for (int round = 0; round < most_rounds; ++round) {
        assemble_layers(machine);
        auto more = carried_keys(machine);
        std::erase_if(more, [&](const VolumeKey& key) {
            return std::ranges::any_of(carried, [&](const VolumeKey& known) {
                return known.place == key.place && known.origin == key.origin;
            });
        });
        if (more.empty()) break;
        carried.insert(carried.end(), more.begin(), more.end());
        // A layer of their own: what the others opened stays open, and is not derived again.
        machine.more_layers.push_back(luks_layer(std::move(more)));
    }
    for (const auto& key : carried) {
        const auto volume = machine.at(key.place);
        if (volume == nullptr || !machine.understands(*volume)) continue;
        machine.layer_findings.push_back(
            make_finding(Code::LuksKeyCarried,
                         fmt::format("the machine opens {} by itself: its key lies in {}", key.place, key.origin),
                         {evidence_place(key.origin)}));
    }
}

}  // namespace herberge
