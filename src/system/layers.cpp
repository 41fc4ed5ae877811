// SPDX-License-Identifier: MIT
// What must be there to open the layers that a root file system lies in.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>

#include <herberge/system.hpp>
#include <herberge/unlock.hpp>

#include "bytes/listed.hpp"
#include "storage/layers.hpp"
#include "system/drivers.hpp"
#include "system/lvm_opening.hpp"

namespace herberge {

namespace {

using drivers::Told;

/// One row for each kind of volume that a layer makes.
struct Need {
    NodeKind kind;
    std::string_view module, option;
    std::string_view words;  ///< a message that only a kernel with the driver has
    std::array<std::string_view, 6> programs;
};
constexpr Need needs[] = {
    {NodeKind::LogicalVolume,
     "dm_mod",
     "CONFIG_BLK_DEV_DM",
     "device-mapper: %s",
     {"sbin/lvm", "usr/sbin/lvm", "bin/lvm", "usr/bin/lvm"}},
    {NodeKind::Array, "md_mod", "CONFIG_BLK_DEV_MD", "md: %s", {"sbin/mdadm", "usr/sbin/mdadm", "usr/bin/mdadm"}},
    {NodeKind::Unlocked,
     "dm_crypt",
     "CONFIG_DM_CRYPT",
     "device-mapper: crypt",
     {"sbin/cryptsetup", "usr/sbin/cryptsetup", "usr/bin/cryptsetup", "usr/lib/systemd/systemd-cryptsetup",
      "lib/systemd/systemd-cryptsetup", "usr/bin/systemd-cryptsetup"}},
};

/// Drivers that some volumes need besides (kernel drivers/md).
struct Driver {
    std::string_view module, option, words;
};
constexpr Driver further[] = {
    {"linear", "CONFIG_MD_LINEAR", "md/linear:"},  {"raid0", "CONFIG_MD_RAID0", "md/raid0:"},
    {"raid1", "CONFIG_MD_RAID1", "md/raid1:"},     {"raid10", "CONFIG_MD_RAID10", "md/raid10:"},
    {"raid456", "CONFIG_MD_RAID456", "md/raid:"},  {"dm_raid", "CONFIG_DM_RAID", "dm-raid"},
    {"dm_mirror", "CONFIG_DM_MIRROR", "dm-mirror"}};

/// Is the driver in the RAM disk or built in? Holds, or why it does not, or that it cannot be told.
Claim judge_driver(const Driver& driver, const std::string& what, const Ramdisk* ramdisk, const RootDemand& demand) {
    Claim out;
    out.stage = Stage::Root;
    out.state = State::Holds;
    if (drivers::brings(ramdisk, demand, driver.module)) return out;
    Told inside = drivers::builtin(demand, driver.module, driver.option);
    if (inside == Told::Unknown && demand.kernel_mentions)
        if (const auto told = demand.kernel_mentions(driver.words)) inside = *told ? Told::Yes : Told::No;
    if (inside == Told::No)
        out.break_with(
            make_finding(Code::RamdiskNoLayerDriver,
                         fmt::format("the driver {} for {} is neither in the RAM disk nor built into the kernel",
                                     driver.module, what),
                         {evidence_place("RAM disk:/lib/modules", fmt::format("{}.ko", driver.module), "absent")}));
    if (inside == Told::Unknown) {
        out.state = State::Unknown;
        out.text = fmt::format("whether the kernel has the driver {} for {} built in is not told by any file here",
                               driver.module, what);
    }
    return out;
}

/// Modules of Linux that bring a part of a cipher, by the name that the table of device mapper has for it. Those that
/// use the processor's own instructions bring several parts at once; whether it has them, no image tells.
struct CipherPart {
    std::string_view name;
    std::array<std::string_view, 7> modules;
};
constexpr CipherPart cipher_parts[] = {
    {"aes", {"aes_generic", "aes", "aesni_intel", "aes_x86_64", "aes_ce_blk", "aes_neon_blk", "aes_arm"}},
    {"serpent", {"serpent_generic", "serpent", "serpent_avx2", "serpent_avx_x86_64", "serpent_sse2_x86_64"}},
    {"twofish", {"twofish_generic", "twofish", "twofish_x86_64", "twofish_avx_x86_64", "twofish_x86_64_3way"}},
    {"camellia", {"camellia_generic", "camellia", "camellia_x86_64", "camellia_aesni_avx2"}},
    {"xts", {"xts", "aesni_intel", "aes_ce_blk", "aes_neon_blk", "aes_neon_bs", "serpent_avx2", "vaes_x86_64"}},
    {"cbc", {"cbc", "aesni_intel", "aes_ce_blk", "aes_neon_blk", "aes_neon_bs", "serpent_avx2"}},
};

/// A volume enciphered by "aes-xts-plain64" wants both parts of the kernel (drivers/md/dm-crypt.c). Breaks where a
/// list tells what is built in, and neither that nor the RAM disk has one.
std::optional<Finding> cipher_lacks(const Volume& encrypted, const Ramdisk* ramdisk, const RootDemand& demand) {
    if (!encrypted.info.is(Family::Luks) || demand.builtin.empty()) return std::nullopt;
    const auto told = describe_luks(*encrypted.source);
    if (!told) return std::nullopt;
    for (std::string_view rest = told->cipher; !rest.empty();) {
        const auto part = rest.substr(0, rest.find_first_of("-:"));
        rest.remove_prefix(std::min(part.size() + 1, rest.size()));
        const auto* row = std::ranges::find(cipher_parts, part, &CipherPart::name);
        if (row == std::end(cipher_parts)) continue;
        const bool there = std::ranges::any_of(row->modules, [&](std::string_view module) {
            return !module.empty() &&
                   (drivers::brings(ramdisk, demand, module) || drivers::builtin(demand, module, {}) == Told::Yes);
        });
        if (there) continue;
        return make_finding(
            Code::RamdiskNoLayerDriver,
            fmt::format("{} is enciphered by {}, and the kernel's driver {} is neither in the RAM disk nor built in",
                        encrypted.place, told->cipher, row->modules[0]),
            {evidence_place("RAM disk:/lib/modules", fmt::format("{}.ko", row->modules[0]), "absent"),
             evidence_place(encrypted.place, {}, told->cipher)},
            fmt::format("device-mapper: table: 254:0: crypt: Error allocating crypto tfm (-ENOENT)\n"
                        "Failed to setup dm-crypt key mapping for device {}.\n"
                        "Check that kernel supports {} cipher (check syslog for more info).",
                        encrypted.place, told->cipher));
    }
    return std::nullopt;
}

/// "lvm/inn/root", and what it is made of, down to the disks.
void collect(const Volume& volume, std::vector<const Volume*>& out, int depth) {
    constexpr int most_depth = 8;
    if (depth > most_depth || volume.made_of.empty()) return;
    if (std::ranges::find(out, &volume) != out.end()) return;
    out.push_back(&volume);
    for (const auto& member : volume.made_of) collect(*member, out, depth + 1);
}

/// The kernel mounts a Btrfs of several devices once it was told of all of them: by `btrfs device scan`, by the rule of
/// udev that asks whether all are there, or by the mount option device= (btrfs(5)).
Claim judge_devices(const Volume& volume, const Ramdisk* ramdisk, const CommandLine& arguments) {
    Claim out;
    out.stage = Stage::Root;
    out.state = State::Holds;
    const auto options = arguments.value("rootflags").value_or("");
    if (volume.other_devices.empty() || is_listed(options, "degraded") ||
        any_listed(options, [](std::string_view one) { return one.starts_with("device="); }))
        return out;
    for (const std::string_view path : {"usr/bin/btrfs", "bin/btrfs", "sbin/btrfs", "usr/sbin/btrfs",
                                        "usr/lib/udev/rules.d/64-btrfs.rules", "lib/udev/rules.d/64-btrfs.rules"})
        if (ramdisk != nullptr && ramdisk->find(path) != nullptr) {
            out.text = fmt::format("{} tells the kernel of the other devices of {}", path.substr(path.rfind('/') + 1),
                                   volume.place);
            out.evidence.push_back(evidence_place("RAM disk:/" + std::string(path)));
            return out;
        }
    std::string others;
    for (const auto& other : volume.other_devices) others += (others.empty() ? "" : ", ") + other->place();
    auto finding =
        make_finding(Code::RamdiskNoLayerProgram,
                     fmt::format("nothing {} tells the kernel that the Btrfs on {} lies on {}, too",
                                 ramdisk != nullptr ? "in the RAM disk" : "that runs before the root is mounted",
                                 volume.place, others),
                     {evidence_place("RAM disk:/usr/bin/btrfs", "the program that looks for its devices", "absent"),
                      evidence_place(volume.place)});
    finding.symptom =
        "BTRFS error (device …): failed to read chunk tree: -2\nBTRFS error (device …): open_ctree failed";
    out.break_with(std::move(finding));
    return out;
}

/// A program of this name, wherever the RAM disk has it: who writes an init of his own puts programs where he likes.
std::optional<std::string> program_in(const Ramdisk& ramdisk, const Need& need) {
    for (const auto path : need.programs)
        if (!path.empty() && ramdisk.find(path) != nullptr) return std::string(path);
    const auto name_of = [](std::string_view path) { return path.substr(path.rfind('/') + 1); };
    for (const auto& [path, file] : ramdisk.files) {
        const auto name = name_of(path);
        if (file.executable() && !file.is_directory() &&
            std::ranges::any_of(need.programs, [&](auto one) { return !one.empty() && name_of(one) == name; }))
            return path;
    }
    return std::nullopt;
}

/// Who may open a layer without its usual program; empty: nobody. (The kernel assembles arrays by itself only where
/// there is no init in a RAM disk: init/main.c, kernel_init_freeable().)
std::string_view other_opener(const Ramdisk* ramdisk) {
    const auto* init = ramdisk != nullptr && ramdisk->builder.empty() ? ramdisk->find("init") : nullptr;
    if (init != nullptr && init->elf) return "its init, which is a program and no script, may do it";
    return {};
}

}  // namespace

Claim judge_layers(const Volume& volume, const Ramdisk* ramdisk, const RootDemand& demand,
                   const CommandLine& arguments) {
    Claim out;
    out.stage = Stage::Root;
    out.state = State::Holds;
    std::vector<const Volume*> layers;
    collect(volume, layers, 0);
    std::ranges::reverse(layers);  // as they are opened
    // What is still shut here is opened there, under the name that the command line gives, by who knows the key.
    const bool shut = volume.info.is(Family::Luks) && arguments.value("root").value_or("").starts_with("/dev/mapper/");
    if (shut) layers.push_back(&volume);
    std::vector<std::string> opened;
    std::optional<Claim> untold;
    for (const auto* layer : layers) {
        const bool to_open = shut && layer == &volume;
        const auto kind = to_open ? NodeKind::Unlocked : layer->kind;
        const auto* need = std::ranges::find(needs, kind, &Need::kind);
        if (need == std::end(needs)) continue;
        const std::string what = to_open ? fmt::format("the encrypted volume {}", layer->place)
                                         : fmt::format("the {} {}", node_kind_name(kind), layer->place);
        const auto program = ramdisk != nullptr ? program_in(*ramdisk, *need) : std::nullopt;
        const std::string_view name = need->programs[0].substr(need->programs[0].rfind('/') + 1);
        if (!program) {
            if (const auto other = other_opener(ramdisk); !other.empty()) {
                out.state = State::Unknown;
                out.text = fmt::format("whether {} is opened is not told: {} is not there, and {}", what, name, other);
                return out;
            }
            out.break_with(make_finding(
                Code::RamdiskNoLayerProgram,
                fmt::format("nothing in the RAM disk opens {}: {} is not there", what, name),
                {evidence_place("RAM disk:/" + std::string(need->programs[0]), "the program that opens it", "absent"),
                 evidence_place(layer->place)}));
            return out;
        }
        std::vector<Driver> wanted = {{need->module, need->option, need->words}};
        for (const auto& driver : layer->names.drivers)
            if (const auto* one = std::ranges::find(further, driver, &Driver::module); one != std::end(further))
                wanted.push_back(*one);
        for (const auto& driver : wanted)
            if (auto claim = judge_driver(driver, what, ramdisk, demand); claim.state != State::Holds) return claim;
        auto lacking = kind == NodeKind::Unlocked
                           ? cipher_lacks(to_open ? *layer : *layer->made_of.front(), ramdisk, demand)
                           : std::nullopt;
        if (lacking) {
            out.break_with(std::move(*lacking));
            return out;
        }
        if (const auto& held = layer->names.held_back; kind == NodeKind::Array && !held.empty()) {
            if (!held.starts_with(linux_refuses)) {
                out.state = State::Unknown;
                out.text = fmt::format("whether the RAM disk opens {} is not told: {}", layer->place, held);
                out.evidence = {evidence_place(layer->place, {}, held)};
                return out;
            }
            out.break_with(make_finding(Code::RootNotOpened,
                                        fmt::format("the RAM disk does not open {}: {}", layer->place, held),
                                        {evidence_place(layer->place, {}, held)}));
            return out;
        }
        if (kind == NodeKind::LogicalVolume) {
            auto opening = judge_group_opening(*layer, *ramdisk, arguments);
            if (opening.state == State::Breaks) return opening;
            if (opening.state == State::Unknown) untold = std::move(opening);
        }
        opened.push_back(fmt::format("{} opens {}", name, what));
        out.evidence.push_back(evidence_place("RAM disk:/" + *program, {}, std::string(name)));
    }
    if (untold) return *untold;
    auto devices = judge_devices(volume, ramdisk, arguments);
    if (devices.state != State::Holds) return devices;
    if (!devices.text.empty()) opened.push_back(devices.text);
    out.evidence.insert(out.evidence.end(), devices.evidence.begin(), devices.evidence.end());
    out.text = fmt::format("{}", fmt::join(opened, ", then "));
    return out;
}

}  // namespace herberge
