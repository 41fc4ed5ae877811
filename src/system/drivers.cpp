// SPDX-License-Identifier: MIT
// What the RAM disk must bring: an init of its own, drivers for the root disk and its file system.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <array>

#include <herberge/system.hpp>

#include "artifact/libraries.hpp"
#include "system/config_text.hpp"
#include "system/drivers.hpp"
#include "system/ramdisk_screens.hpp"

namespace herberge {

namespace {

/// A disk needs its block driver and one of the drivers below it.
struct DriverPath {
    Controller controller;
    std::string_view block;
    std::string_view config;
    std::vector<std::string_view> below;  ///< empty: it needs none
    std::vector<std::string_view> below_config;
};

const std::vector<DriverPath>& driver_paths() {
    constexpr std::string_view sd = "sd_mod";
    constexpr std::string_view sd_config = "CONFIG_BLK_DEV_SD";
    static const std::vector<DriverPath> paths = {
        {Controller::Ata,
         sd,
         sd_config,
         {"ahci", "ata_piix", "ata_generic", "pata_acpi", "sata_nv", "sata_sil", "sata_sil24", "sata_via", "sata_mv",
          "pata_amd", "pata_via", "pata_marvell", "pata_jmicron"},
         {"CONFIG_SATA_AHCI", "CONFIG_ATA_PIIX", "CONFIG_ATA_GENERIC"}},
        {Controller::Nvme, "nvme", "CONFIG_BLK_DEV_NVME", {}, {}},
        {Controller::VirtioBlk,
         "virtio_blk",
         "CONFIG_VIRTIO_BLK",
         {"virtio_pci", "virtio_mmio"},
         {"CONFIG_VIRTIO_PCI", "CONFIG_VIRTIO_MMIO"}},
        {Controller::VirtioScsi, sd, sd_config, {"virtio_scsi"}, {"CONFIG_SCSI_VIRTIO"}},
        {Controller::Scsi,
         sd,
         sd_config,
         {"mptspi", "mptsas", "mpt3sas", "megaraid_sas", "aacraid", "hpsa", "smartpqi", "sym53c8xx", "aic7xxx",
          "BusLogic", "isci", "3w_9xxx", "vmw_pvscsi"},
         {"CONFIG_VMWARE_PVSCSI"}},
        {Controller::Usb, sd, sd_config, {"usb_storage", "uas"}, {"CONFIG_USB_STORAGE"}},
        {Controller::Mmc, "mmc_block", "CONFIG_MMC_BLOCK", {}, {}},
        {Controller::HyperV, sd, sd_config, {"hv_storvsc"}, {"CONFIG_HYPERV_STORAGE"}},
        {Controller::Xen, "xen_blkfront", "CONFIG_XEN_BLKDEV_FRONTEND", {}, {}},
    };
    return paths;
}

using drivers::brings;
using drivers::builtin;
using drivers::Told;

Told config_says(std::string_view config, std::string_view option) {
    if (config.empty()) return Told::Unknown;
    const std::string yes = fmt::format("{}=y", option);
    std::size_t at = 0;
    while ((at = config.find(yes, at)) != std::string_view::npos) {
        if (at == 0 || config[at - 1] == '\n') return Told::Yes;
        ++at;
    }
    const bool module = config.find(fmt::format("{}=m", option)) != std::string_view::npos;
    const bool unset = config.find(fmt::format("# {} is not set", option)) != std::string_view::npos;
    return module || unset ? Told::No : Told::Unknown;
}

bool available(const Ramdisk* ramdisk, const RootDemand& demand, std::string_view module, std::string_view option) {
    return brings(ramdisk, demand, module) || builtin(demand, module, option) == Told::Yes;
}

/// A RAM disk with a driver for a host of cards and none for the cards: the kernel has that one inside, as its own
/// messages tell (drivers/mmc/core/block.c).
std::string card_host(const Ramdisk* ramdisk, const RootDemand& demand) {
    if (ramdisk == nullptr || !demand.kernel_mentions) return {};
    const auto host = std::ranges::find_if(ramdisk->modules, [](const std::string& name) {
        return name.ends_with("_mmc") || name.starts_with("sdhci") || name.starts_with("dw_mmc") || name == "mmci";
    });
    if (host == ramdisk->modules.end() || !demand.kernel_mentions("mmcblk%u").value_or(false)) return {};
    return *host;
}

/// Controllers that can be driven, each with what drives it.
std::vector<std::pair<Controller, std::string>> usable_paths(const Ramdisk* ramdisk, const RootDemand& demand) {
    std::vector<std::pair<Controller, std::string>> out;
    for (const auto& path : driver_paths()) {
        if (!available(ramdisk, demand, path.block, path.config)) {
            if (path.controller != Controller::Mmc) continue;
            if (auto host = card_host(ramdisk, demand); !host.empty())
                out.emplace_back(path.controller, std::move(host));
            continue;
        }
        if (path.below.empty()) {
            out.emplace_back(path.controller, path.block);
            continue;
        }
        std::vector<std::string> below;
        for (const auto& name : path.below)
            if (brings(ramdisk, demand, name)) below.emplace_back(name);
        for (const auto& option : path.below_config)
            if (config_says(demand.config, option) == Told::Yes) below.emplace_back("built in");
        if (!demand.builtin.empty())
            for (const auto& name : path.below)
                if (builtin(demand, name, "") == Told::Yes) below.emplace_back(name);
        if (!below.empty()) out.emplace_back(path.controller, fmt::format("{}", fmt::join(below, ", ")));
    }
    return out;
}

/// ", and ahci is kept back by modprobe.blacklist=ahci on the command line": of those that disks need.
std::string barred_text(const RootDemand& demand) {
    std::string out;
    for (const auto& path : driver_paths()) {
        std::vector<std::string_view> names = path.below;
        names.push_back(path.block);
        for (const auto name : names)
            if (const auto at = demand.barred.find(std::string(name)); at != demand.barred.end())
                if (const auto text = fmt::format(", and {} is kept back by {}", name, at->second);
                    out.find(text) == std::string::npos)
                    out += text;
    }
    return out;
}

/// "AHCI/ATA (ahci), virtio-blk (virtio_pci); none for NVMe, USB, eMMC and SD"
std::string controllers_text(const std::vector<std::pair<Controller, std::string>>& usable) {
    std::vector<std::string> there;
    std::vector<std::string_view> absent;
    there.reserve(usable.size());
    for (const auto& [controller, drivers] : usable)
        there.push_back(fmt::format("{} ({})", controller_name(controller), drivers));
    for (const Controller usual : {Controller::Ata, Controller::Nvme, Controller::VirtioBlk, Controller::VirtioScsi,
                                   Controller::Scsi, Controller::Usb, Controller::Mmc})
        if (std::ranges::find(usable, usual, &std::pair<Controller, std::string>::first) == usable.end())
            absent.push_back(controller_name(usual));
    return fmt::format("drivers for {}{}", fmt::join(there, ", "),
                       absent.empty() ? "" : fmt::format("; none for {}", fmt::join(absent, ", ")));
}

}  // namespace

namespace drivers {

Told builtin(const RootDemand& demand, std::string_view module, std::string_view option) {
    if (!demand.builtin.empty()) {
        std::string dashed(module);
        std::ranges::replace(dashed, '_', '-');
        for (const std::string_view name : {module, std::string_view(dashed)})
            if (demand.builtin.find(fmt::format("/{}.ko", name)) != std::string::npos) return Told::Yes;
        return Told::No;
    }
    return config_says(demand.config, option);
}

bool is_disk_driver(std::string_view module) {
    return std::ranges::any_of(driver_paths(), [&](const DriverPath& path) {
        return path.block == module || std::ranges::find(path.below, module) != path.below.end();
    });
}

std::string module_name(std::string_view written) {
    std::string out(written);
    std::ranges::replace(out, '-', '_');
    return out;
}

bool loads_nothing(std::string_view command) {
    const auto leaf = command.substr(std::min(command.rfind('/') + 1, command.size()));
    return leaf == "false" || leaf == "true" || leaf == ":";
}

bool brings(const Ramdisk* ramdisk, const RootDemand& demand, std::string_view module) {
    return ramdisk != nullptr && ramdisk->has_module(module) && !demand.barred.contains(std::string(module)) &&
           !(demand.locked_down && ramdisk->unsigned_modules.contains(module));
}

RootDemand demand_of(const VolumeRef& root, const FileReference& kernel, const KernelImage& image,
                     const Ramdisk* ramdisk) {
    RootDemand out;
    out.volume = root;
    if (root != nullptr) out.file_system = root->info.format;
    out.loads_for_root_alone = ramdisk != nullptr && ramdisk->builder == "initramfs-tools";
    if (const auto* list = ramdisk != nullptr ? ramdisk->find("/conf/modules") : nullptr)
        each_line(list->content, [&](int, std::string_view line) {
            const auto words = blank_words(line);
            if (!words.empty() && !words[0].starts_with('#')) out.loaded.insert(module_name(words[0]));
        });
    out.kernel_release = image.release;
    if (image.release.empty()) return out;
    const std::string config = "config-" + image.release;
    if (const auto* fs = kernel.volume != nullptr ? kernel.volume->files(Observer::Loader) : nullptr) {
        const auto slash = kernel.real_path.rfind('/');
        out.config =
            read_text_file(*fs, kernel.real_path.substr(0, slash == std::string::npos ? 0 : slash) + "/" + config)
                .value_or("");
    }
    if (ramdisk != nullptr)
        for (const auto& [path, file] : ramdisk->files)
            if (path.ends_with("/modules.builtin") && !file.content.empty()) out.builtin = file.content;
    if (const auto* fs = root != nullptr ? root->files(Observer::Linux) : nullptr) {
        if (out.config.empty()) out.config = read_text_file(*fs, "/boot/" + config).value_or("");
        if (out.builtin.empty())
            out.builtin =
                read_text_file(*fs, fmt::format("/lib/modules/{}/modules.builtin", image.release)).value_or("");
    }
    return out;
}

}  // namespace drivers

std::string_view controller_name(Controller controller) {
    switch (controller) {
        case Controller::Ata: return "AHCI/ATA";
        case Controller::Nvme: return "NVMe";
        case Controller::VirtioBlk: return "virtio-blk";
        case Controller::VirtioScsi: return "virtio-scsi";
        case Controller::Scsi: return "SCSI and SAS adapters";
        case Controller::Usb: return "USB";
        case Controller::Mmc: return "eMMC and SD";
        case Controller::HyperV: return "Hyper-V";
        case Controller::Xen: return "Xen";
    }
    return "";
}

Claim judge_ramdisk(const Ramdisk& ramdisk, const RootDemand& demand, const CommandLine& arguments) {
    Claim out;
    const std::string init = arguments.value("rdinit").value_or("/init");
    const auto* program = ramdisk.find(init);
    std::string runner = init;
    std::vector<std::string> parts;
    for (const auto& member : ramdisk.members)
        parts.push_back(fmt::format(
            "{}{} ({} files, {} unpacked)", member.early ? "early " : "",
            compression_name(member.compression) == "none" ? "plain archive" : compression_name(member.compression),
            member.files, size_text(member.unpacked)));
    const std::string shape = fmt::format("{}", fmt::join(parts, ", then "));
    auto breaks = [&](Code code, std::string text, std::string symptom, std::vector<Evidence> evidence) {
        out.break_with(make_finding(code, std::move(text), std::move(evidence), std::move(symptom)));
        return out;
    };
    // What is not there in a RAM disk that ends early is not there because of that.
    const bool only_sum = ramdisk.damage && ramdisk.damage->kind == ErrorKind::Checksum;
    auto lacks = [&](Code code, const std::string& text, const std::string& symptom, std::vector<Evidence> evidence) {
        if (!ramdisk.damage || only_sum) return breaks(code, text, symptom, std::move(evidence));
        evidence.insert(evidence.begin(), evidence_error(*ramdisk.damage));
        return breaks(
            Code::RamdiskDamaged, fmt::format("the RAM disk is damaged: {}; so {}", ramdisk.damage->what, text),
            ramdisk.kernel_message.empty() ? symptom : ramdisk.kernel_message + "\n" + symptom, std::move(evidence));
    };
    for (const auto& member : ramdisk.members) {
        std::string option(compression_name(member.compression));
        std::ranges::transform(option, option.begin(),
                               [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
        if (member.compression != Compression::None &&
            demand.config.find(fmt::format("# CONFIG_RD_{} is not set", option)) != std::string::npos)
            return breaks(Code::RamdiskCompressionUnsupported,
                          fmt::format("the kernel was built without support for {} RAM disks",
                                      compression_name(member.compression)),
                          fmt::format("Initramfs unpacking failed: compression method {} not configured\n{}",
                                      compression_name(member.compression), root_panic),
                          {});
    }
    if (ramdisk.too_large) {
        out.state = State::Unknown;
        out.text = "the RAM disk unpacks to more than is looked at here";
        out.evidence.push_back(evidence_error(*ramdisk.damage));
        return out;
    }
    if (ramdisk.damage && !only_sum && (program == nullptr || !program->complete))
        return breaks(Code::RamdiskDamaged,
                      fmt::format("the RAM disk is damaged before its {} is unpacked: {}", init, ramdisk.damage->what),
                      ramdisk.kernel_message.empty() ? std::string(root_panic)
                                                     : fmt::format("{}\n{}", ramdisk.kernel_message, root_panic),
                      {evidence_error(*ramdisk.damage)});
    if (program == nullptr) {
        const bool early = !ramdisk.members.empty() && std::ranges::all_of(ramdisk.members, &RamdiskMember::early);
        return breaks(early ? Code::RamdiskOnlyEarly : Code::RamdiskNoInit,
                      early ? "the RAM disk holds only early microcode: the archive with the init is missing"
                            : fmt::format("the RAM disk holds no {}", init),
                      std::string(root_panic),
                      {Evidence{{}, shape.empty() ? "empty RAM disk" : shape, {}, init, "not in the RAM disk"}});
    }
    if (program->is_directory() || !program->executable())
        return breaks(
            Code::RamdiskInitUnusable, fmt::format("{} in the RAM disk cannot be executed", init),
            fmt::format("Failed to execute {} (error -13)\nKernel panic - not syncing: No working init found.", init),
            {Evidence{{}, "RAM disk:" + init, {}, "an executable program", fmt::format("mode {:o}", program->mode)}});
    if (program->content.starts_with("#!")) {
        const auto line = std::string_view(program->content).substr(2, program->content.find('\n') - 2);
        const auto from = std::min(line.find_first_not_of(" \t"), line.size());
        const auto word = line.substr(from, line.find_first_of(" \t", from) - from);
        const auto* interpreter = ramdisk.find(word);
        runner = word;
        if (interpreter == nullptr || !interpreter->executable() || !interpreter->complete)
            return lacks(
                Code::RamdiskInitUnusable,
                fmt::format("the interpreter {} of {} is not in the RAM disk", printable(word), init),
                fmt::format("Failed to execute {} (error -2)\nKernel panic - not syncing: No working init found.",
                            init),
                {Evidence{{}, "RAM disk:" + init, 1, "an interpreter in the RAM disk", printable(word)}});
    }
    // The init itself, or the shell that reads it, may be a dynamic program.
    const auto* running = ramdisk.find(runner);
    if (running != nullptr && running->complete && running->elf != nullptr && !running->elf->interpreter.empty()) {
        const ElfInfo& elf = *running->elf;
        const auto* loader = ramdisk.find(elf.interpreter);
        if (loader == nullptr || !loader->executable())
            return lacks(
                Code::RamdiskInitUnusable,
                fmt::format("{} in the RAM disk needs {}, which is not there", runner, printable(elf.interpreter)),
                fmt::format("Failed to execute {} (error -2)\nKernel panic - not syncing: No working init found.",
                            init),
                {Evidence{{}, "RAM disk:" + runner, {}, printable(elf.interpreter), "absent"}});
        if (const auto problem = library_problem(*program_files(ramdisk), runner, elf))
            return lacks(
                Code::RamdiskLibraryMissing,
                fmt::format("{} in the RAM disk needs {}: {}", runner, printable(problem->library), problem->words),
                fmt::format("{}: error while loading shared libraries: {}: {}\n"
                            "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00007f00 ]---",
                            runner, printable(problem->library), problem->words),
                {problem->evidence});
    }
    out.state = State::Holds;
    out.text = fmt::format("unpacks whole: {}; its init is {}", shape, init);
    if (only_sum) {
        out.state = State::Unknown;
        out.text = fmt::format(
            "it unpacks to its end, and its sum is another ({}): the kernel does not look at that, but a file in it, "
            "or "
            "its name, is not what it was",
            ramdisk.damage->what);
        out.findings.push_back(make_finding(Code::RamdiskPartlyDamaged, out.text, {evidence_error(*ramdisk.damage)}));
    } else if (ramdisk.damage) {
        out.state = State::Doubtful;
        out.text = fmt::format("damaged, but its {} is unpacked before the damage: {}", init, ramdisk.damage->what);
        out.findings.push_back(make_finding(Code::RamdiskPartlyDamaged, out.text, {evidence_error(*ramdisk.damage)},
                                            ramdisk.kernel_message));
    }
    return out;
}

Claim judge_root_drivers(const Ramdisk* ramdisk, const RootDemand& demand) {
    Claim out;
    const bool any_told = !demand.config.empty() || !demand.builtin.empty();
    const bool has_modules = ramdisk != nullptr && !ramdisk->modules.empty();
    auto breaks = [&](Code code, std::string text, std::vector<Evidence> evidence) {
        out.break_with(make_finding(code, std::move(text), std::move(evidence)));
        return out;
    };
    if (has_modules && !demand.kernel_release.empty() && !ramdisk->module_releases.empty() &&
        std::ranges::find(ramdisk->module_releases, demand.kernel_release) == ramdisk->module_releases.end())
        return breaks(Code::RamdiskOtherKernel,
                      fmt::format("the RAM disk's modules are for {}, the kernel is {}",
                                  fmt::join(ramdisk->module_releases, ", "), demand.kernel_release),
                      {Evidence{{},
                                "RAM disk:/lib/modules",
                                {},
                                demand.kernel_release,
                                fmt::format("{}", fmt::join(ramdisk->module_releases, ", "))}});
    if (demand.volume != nullptr && demand.volume->kind == NodeKind::FlashVolume) {
        // Raw flash is no disk: its drivers go by the board's device tree.
        out.state = State::Unknown;
        out.text = "no file tells whether the drivers of the flash are at hand";
        return out;
    }
    const auto paths = usable_paths(ramdisk, demand);
    if (paths.empty()) {
        if (!has_modules && !any_told) {
            out.state = State::Unknown;
            out.text = "neither the RAM disk nor a kernel configuration tells which disk drivers there are";
            return out;
        }
        if (ramdisk == nullptr && config_says(demand.config, "CONFIG_BLK_DEV_SD") == Told::Unknown &&
            demand.builtin.empty()) {
            out.state = State::Unknown;
            out.text = "the kernel's configuration does not tell whether disk drivers are built in";
            return out;
        }
        if (demand.locked_down && ramdisk != nullptr && !ramdisk->unsigned_modules.empty())
            return breaks(
                Code::RamdiskModulesUnsigned,
                "the disk drivers in the RAM disk carry no signature, and under Secure Boot the kernel refuses them",
                {Evidence{{},
                          "RAM disk:/lib/modules",
                          {},
                          "signed modules",
                          fmt::format("{} without a signature", ramdisk->unsigned_modules.size())}});
        return breaks(Code::RamdiskNoDiskDriver,
                      "no driver for any disk is in the RAM disk, and none is known to be built into the kernel" +
                          barred_text(demand),
                      {Evidence{{},
                                "RAM disk:/lib/modules",
                                {},
                                "sd_mod with a controller, virtio_blk, nvme …",
                                has_modules ? fmt::format("{}", fmt::join(ramdisk->modules, ", ")).substr(0, 300)
                                            : "no modules"}});
    }
    // Modules that are there and a kernel that tells what it has built in: then what is absent is absent.
    if (demand.controller && has_modules && any_told &&
        std::ranges::find(paths, *demand.controller, &std::pair<Controller, std::string>::first) == paths.end())
        return breaks(
            Code::RamdiskNoControllerDriver,
            fmt::format("{} says that the disk is attached by {}, and there are only {}{}", demand.controller_told_by,
                        controller_name(*demand.controller), controllers_text(paths), barred_text(demand)),
            {Evidence{{},
                      "RAM disk:/lib/modules",
                      {},
                      fmt::format("a driver for {}", controller_name(*demand.controller)),
                      fmt::format("{}", fmt::join(ramdisk->modules, ", ")).substr(0, 300)}});
    const auto& driver = traits_of(demand.file_system);
    if (!driver.kernel_option.empty()) {
        const std::string module(driver.linux_module);
        Told inside = builtin(demand, module, driver.kernel_option);
        const bool brought = brings(ramdisk, demand, module) || brings(ramdisk, demand, driver.name);
        // A driver that is built in brings its messages along; one that is not leaves none.
        const auto words = driver.driver_words;
        if (!brought && inside == Told::Unknown && !words.empty() && demand.kernel_mentions)
            if (const auto told = demand.kernel_mentions(words)) inside = *told ? Told::Yes : Told::No;
        if (!brought && inside == Told::No)
            return breaks(
                Code::RamdiskNoFileSystemDriver,
                fmt::format("the driver for {} is neither in the RAM disk nor built into the kernel", driver.name),
                {Evidence{{}, "RAM disk:/lib/modules", {}, module + ".ko", "absent"}});
        if (!brought && inside == Told::Unknown) {
            out.state = State::Unknown;
            out.text = fmt::format("whether the kernel has {} built in is not told by any file here", driver.name);
            return out;
        }
    }
    out.state = State::Holds;
    out.text = controllers_text(paths) + barred_text(demand);
    return out;
}

MediumDrivers medium_drivers(const Ramdisk* ramdisk, const RootDemand& demand, Format medium,
                             const PackedRoot& packed) {
    struct Driver {
        std::string_view module, option;
    };
    const auto of = [](Format format) -> Driver {
        const auto& traits = traits_of(format);
        if (traits.family == Family::Iso) return {traits.linux_module, "CONFIG_ISO9660_FS"};
        if (traits.family == Family::Fat) return {traits.linux_module, "CONFIG_VFAT_FS"};
        return {traits.linux_module, traits.kernel_option};
    };
    MediumDrivers out;
    std::vector<Driver> wanted = {of(medium), {"loop", "CONFIG_BLK_DEV_LOOP"}};
    for (const auto& layer : packed.layers) wanted.push_back(of(layer->info.format));
    // Older ones come with one that is no part of the kernel.
    if (packed.unites && !brings(ramdisk, demand, "aufs")) wanted.push_back({"overlay", "CONFIG_OVERLAY_FS"});
    for (const auto& driver : wanted) {
        if (driver.module.empty() || brings(ramdisk, demand, driver.module)) continue;
        const Told inside = builtin(demand, driver.module, driver.option);
        if (inside == Told::No) out.absent.emplace_back(driver.module);
        if (inside == Told::Unknown) out.untold.emplace_back(driver.module);
    }
    return out;
}

}  // namespace herberge
