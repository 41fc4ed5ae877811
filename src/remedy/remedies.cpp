// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "remedy/remedy.hpp"

namespace herberge::remedy {

std::vector<Remedy> remedies() {
    return {{"tables", propose_tables},
            {"partitions", propose_partitions},
            {"boot code", propose_boot_code},
            {"volume boot sectors", propose_volume_sectors},
            {"configurations", propose_texts},
            {"identifiers", propose_identifiers},
            {"marks of files", propose_marks},
            {"Windows", propose_windows},
            {"files", propose_files},
            {"names", propose_names},
            {"boot stores", propose_stores},
            {"firmware settings", propose_firmware},
            {"what starts unattended", propose_default},
            {"boards", propose_boards},
            {"lists of sectors", propose_syslinux}};
}

namespace {

std::string to_bring_for_root(const StageState& rung) {
    switch (rung.findings.empty() ? Code::RootNotFound : rung.findings.front()) {
        case Code::RootNotOpened:
            return "a RAM disk whose settings open it, made anew by a running system, or the volume's marks changed by "
                   "its own tools there";
        case Code::RamdiskNoLayerProgram: return "a RAM disk with the program that opens what the root lies in";
        case Code::RamdiskNoRootScript: return "a RAM disk with that script, by the package that has it";
        default: return "a RAM disk with the drivers that are missing, or the root file system from a backup";
    }
}

}  // namespace

std::string to_bring(const Case& stopped) {
    const std::string place = stopped.system.place.value_or("the disk");
    switch (stopped.rung.stage) {
        case Stage::Firmware:
            return "a loader for this firmware, installed anew from a running system or a medium of the same kind";
        case Stage::PartitionTable:
            return "the partition table as it was: from a backup, or from the installer's notes";
        case Stage::BootCode:
            return "the loader's first sector or application of the same version, by its own installer";
        case Stage::BootSector:
            return fmt::format("a boot sector of the kind that {} had, by its system's own installer", place);
        case Stage::Loader: return "the loader's own files of the same version, by its installer or from its package";
        case Stage::Configuration: return "a configuration for the loader: by its own generator, from a running system";
        case Stage::Entry: return "the file or volume that the entry names";
        case Stage::Kernel:
            return "the kernel or system loader of the same version, from its package or install medium";
        case Stage::Ramdisk: return "a RAM disk for this kernel, made by its own generator from a running system";
        case Stage::Root: return to_bring_for_root(stopped.rung);
        case Stage::Init: return "the init or its libraries of the same version, from its package";
        case Stage::Services: return "the program that is missing, from its package";
    }
    return {};
}

}  // namespace herberge::remedy
