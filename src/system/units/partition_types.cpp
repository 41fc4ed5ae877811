// SPDX-License-Identifier: MIT
// systemd-gpt-auto-generator(8), of 252: partitions of the root's own disk that their type says the use of. The volumes
// that loaders start from depend on what the loader tells systemd of itself, are mounted when they are used, and are
// left out here; so are encrypted ones.
#include <fmt/format.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>
#include <algorithm>
#include <array>

#include "bytes/guid.hpp"
#include "system/units/generators.hpp"
#include "system/units/names.hpp"

namespace herberge::units {

namespace {

/// The Discoverable Partitions Specification, "Partition Flags".
constexpr std::uint64_t no_auto = std::uint64_t{1} << 63U, read_only = std::uint64_t{1} << 60U;

struct Use {
    std::string_view type, where;
};
constexpr Use uses[] = {
    {"933ac7e1-2eb4-4f13-b844-0e14e2aef915", "/home"},
    {"3b8f8425-20e0-4f3b-907f-1a25a76f98e8", "/srv"},
    {"4d21b016-b534-45c2-a9fb-5c16e091fd2d", "/var"},
    {"7ec6f557-3bc5-4aca-b293-16ef5df639d1", "/var/tmp"},
};
constexpr std::string_view swap_type = "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f";

const Disk* disk_of(const Machine& machine, const Volume& root) {
    const Volume* volume = &root;
    // Below an encrypted root lies its partition.
    while (volume->disk == 0 && volume->made_of.size() == 1) volume = volume->made_of.front().get();
    return volume->disk != 0 && volume->partition > 0 ? machine.disk(volume->disk) : nullptr;
}

/// Nothing is mounted over a folder that holds something (path_is_busy).
bool is_busy(const FileSystem& fs, std::string_view where) {
    const auto found = resolve(fs, where);
    if (!found) return found.error().kind != ErrorKind::NotFound;
    if (found->file.type != FileType::Directory) return true;
    const auto entries = fs.list(found->file.id);
    return !entries ||
           std::ranges::any_of(*entries, [](const DirEntry& one) { return one.name != "." && one.name != ".."; });
}

/// 32 hexadecimal digits, in the order in which they stand; none: it is something else.
std::optional<std::array<std::uint8_t, 16>> id_bytes(std::string_view text) {
    const auto stored = guid_bytes(text);
    if (!stored) return std::nullopt;
    // guid_bytes() turns the first groups round, as disks have them; ids of systemd stay as they are.
    constexpr std::array<std::size_t, 8> turned = {3, 2, 1, 0, 5, 4, 7, 6};
    auto out = *stored;
    for (std::size_t i = 0; i < turned.size(); ++i) out.at(i) = stored->at(turned.at(i));
    return out;
}

/// /var belongs to this system alone whose id made the partition's own: HMAC-SHA-256 of the type, by the machine's id.
bool is_own_var(const FileSystem& fs, std::string_view partuuid, std::string_view type) {
    const auto text = read_text_file(fs, "/etc/machine-id").value_or("");
    const auto key = id_bytes(std::string_view(text).substr(0, text.find_first_of("\r\n")));
    const auto message = id_bytes(type);
    if (!key || !message) return false;
    std::array<std::uint8_t, EVP_MAX_MD_SIZE> digest{};
    unsigned size = 0;
    if (HMAC(EVP_sha256(), key->data(), static_cast<int>(key->size()), message->data(), message->size(), digest.data(),
             &size) == nullptr)
        return false;
    // As a UUID of version 4 (sd_id128_get_machine_app_specific(3)).
    digest[6] = static_cast<std::uint8_t>((digest[6] & 0x0FU) | 0x40U);
    digest[8] = static_cast<std::uint8_t>((digest[8] & 0x3FU) | 0x80U);
    std::string made;
    for (std::size_t i = 0; i < 16; ++i)
        made += fmt::format("{}{:02x}", i == 4 || i == 6 || i == 8 || i == 10 ? "-" : "", digest[i]);
    return made == partuuid;
}

}  // namespace

void from_partition_types(const GeneratorInput& input, const Machine& machine, const Volume& root,
                          GeneratedFiles& out) {
    const bool there = std::ranges::any_of(
        std::array{"/lib/systemd/system-generators", "/usr/lib/systemd/system-generators"}, [&](const char* folder) {
            return resolve(input.fs, fmt::format("{}/systemd-gpt-auto-generator", folder)).has_value();
        });
    for (const char* word : {"systemd.gpt_auto", "systemd.gpt-auto"})
        if (const auto told = input.arguments.value(word); told == "0" || told == "no" || told == "false") return;
    const Disk* disk = there ? disk_of(machine, root) : nullptr;
    if (disk == nullptr || disk->table.kind != TableKind::Gpt) return;
    const auto fstab = parse_fstab(read_text_file(input.fs, "/etc/fstab").value_or(""));
    std::vector<std::string_view> taken;
    for (const auto& partition : disk->table.partitions) {
        const auto volume = machine.volume(disk->number, partition.number);
        if ((partition.attributes & no_auto) != 0 || volume == nullptr ||
            volume->info.content() == Content::Encrypted ||
            std::ranges::find(taken, partition.type_guid) != taken.end())
            continue;
        const auto use = std::ranges::find(uses, partition.type_guid, &Use::type);
        const bool swap = partition.type_guid == swap_type;
        if (!swap && use == std::end(uses)) continue;
        const std::string what = "/dev/disk/by-partuuid/" + partition.partuuid;
        auto said = evidence_place(volume->place, {}, fmt::format("a partition of type {}", partition.type_name()));
        const auto blockdev = fmt::format("After=blockdev@{}.target\n", escape_path(what));
        if (swap) {
            taken.push_back(partition.type_guid);
            if (input.arguments.value("systemd.swap") == "0" || input.arguments.value("systemd.swap") == "no" ||
                input.arguments.has("noswap") || std::ranges::find(fstab, "swap", &FstabLine::type) != fstab.end())
                continue;
            const auto name = escape_path(what) + ".swap";
            out.emplace(fmt::format("{}/{}", generator_late, name),
                        Generated{fmt::format("[Unit]\n{}[Swap]\nWhat={}\n", blockdev, what), {}, said});
            out.emplace(fmt::format("{}/swap.target.wants/{}", generator_late, name),
                        Generated{{}, "../" + name, said});
            continue;
        }
        if (use->where == "/var" && !is_own_var(input.fs, partition.partuuid, partition.type_guid)) continue;
        taken.push_back(partition.type_guid);
        if (is_busy(input.fs, use->where)) continue;
        const auto name = escape_path(use->where) + ".mount";
        const auto check = fmt::format("systemd-fsck@{}.service", escape_path(what));
        const auto& traits = traits_of(volume->info.format);
        const std::string type(traits.family == Family::Fat ? traits.linux_module : traits.name);
        std::string text = fmt::format("[Unit]\nBefore=local-fs.target\n{}", blockdev);
        if (volume->info.known() && has_checker(input.fs, type))
            text += fmt::format("Requires={0}\nAfter={0}\n", check);
        text += fmt::format("[Mount]\nWhat={}\nWhere={}\n", what, use->where);
        if (volume->info.known()) text += fmt::format("Type={}\n", type);
        text += fmt::format("Options={}\n", (partition.attributes & read_only) != 0 ? "ro" : "rw");
        out.emplace(fmt::format("{}/{}", generator_late, name), Generated{std::move(text), {}, said});
        out.emplace(fmt::format("{}/local-fs.target.requires/{}", generator_late, name),
                    Generated{{}, "../" + name, said});
    }
}

}  // namespace herberge::units
