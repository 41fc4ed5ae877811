// SPDX-License-Identifier: MIT
// The inn owner's office PC: a Windows of the sixth generation on a BIOS machine, all of it made here.
#include "office_pc.hpp"

#include "forge/sign.hpp"

namespace demo {

using forge::Bytes;

namespace {

constexpr std::uint16_t i386 = 0x14C;
constexpr std::uint32_t signature = 0x0A1B0F70;
constexpr std::uint64_t boot_lba = 2048;
constexpr std::uint64_t boot_sectors = (4U << 20U) / 512;
constexpr std::uint64_t recovery_lba = boot_lba + boot_sectors + (16U << 20U) / 512;
constexpr const char* recovery_id = "{0a1b0f00-0000-4000-8000-00000000c002}";
constexpr const char* recovery_options_id = "{0a1b0f00-0000-4000-8000-00000000c003}";
constexpr const char* system_id = "{0a1b0f00-0000-4000-8000-00000000c001}";

void driver(forge::HiveNode& services, const std::string& name, std::uint32_t start, const std::string& group,
            std::uint32_t type = 1) {
    auto& key = services.child(name);
    key.number("Type", type).number("Start", start).number("ErrorControl", 3);
    key.text("ImagePath", "System32\\drivers\\" + name + ".sys", 2);
    if (!group.empty()) key.text("Group", group);
}

}  // namespace

OfficePc office_pc() {
    OfficePc out;
    auto& system = out.system_hive;
    system.name = "ROOT";
    system.child("Select").number("Current", 1).number("Default", 1).number("Failed", 0).number("LastKnownGood", 1);
    auto& set = system.child("ControlSet001");
    auto& services = set.child("Services");
    driver(services, "disk", 0, "SCSI Class");
    driver(services, "partmgr", 0, "Boot Bus Extender");
    driver(services, "volmgr", 0, "System Bus Extender");
    driver(services, "storahci", 0, "SCSI miniport");
    driver(services, "almbell", 1, "");
    services.child("almbell").number("ErrorControl", 1);
    services.child("GuestBook")
        .number("Type", 16)
        .number("Start", 2)
        .number("ErrorControl", 1)
        .text("ImagePath", "\"C:\\Program Files\\Almhof\\guestbook.exe\" --service", 2);
    set.child("Control\\ServiceGroupOrder")
        .texts("List", {"Boot Bus Extender", "System Bus Extender", "SCSI miniport", "SCSI Class"});
    set.child("Control\\Session Manager").texts("BootExecute", {"autocheck autochk *"});
    set.child("Control\\Session Manager\\SubSystems")
        .text("Windows", "%SystemRoot%\\system32\\csrss.exe ObjectDirectory=\\Windows", 2);
    set.child("Control\\Nls\\CodePage").text("ACP", "1252").text("1252", "c_1252.nls");
    Bytes letter;
    forge::put32(letter, 0, signature);
    forge::put64(letter, 4, (boot_lba + boot_sectors) * 512);
    system.child("MountedDevices").bytes("\\DosDevices\\C:", letter);
    auto& software = out.software_hive;
    software.name = "ROOT";
    auto& version = software.child("Microsoft\\Windows NT\\CurrentVersion");
    version.text("ProductName", "Almhof Window Workplace")
        .text("CurrentVersion", "6.1")
        .text("CurrentBuildNumber", "7601");
    version.child("Winlogon").text("Userinit", "C:\\Windows\\system32\\userinit.exe,").text("Shell", "explorer.exe");
    software.child("Microsoft\\Windows\\CurrentVersion\\Run")
        .text("Bell", "\"C:\\Program Files\\Almhof\\bell.exe\" /quiet");
    auto& t = out.windows;
    const std::string s32 = "/Windows/System32/";
    const Bytes boot_application = forge::make_pe({i386, 16, {}, {}, true});
    t.file(s32 + "winload.exe", boot_application);
    t.file(s32 + "ntoskrnl.exe", forge::make_pe({i386, 1, {"HAL.dll", "BOOTVID.dll"}, {}, true}));
    t.file(s32 + "hal.dll", forge::make_pe({i386, 1, {"ntoskrnl.exe"}, {}, true}));
    t.file(s32 + "BOOTVID.dll", forge::make_pe({i386, 1, {}, {}, true}));
    for (const char* name : {"disk", "partmgr", "volmgr", "storahci", "almbell", "Ntfs"})
        t.file(s32 + "drivers/" + name + ".sys", forge::make_pe({i386, 1, {"ntoskrnl.exe"}, {}, true}));
    t.file(s32 + "drivers/almbell.sys",
           forge::make_pe({i386, 1, {"ntoskrnl.exe"}, {{".bell", forge::noise(600, 5)}}, true}));
    for (const char* name : {"smss.exe", "csrss.exe", "wininit.exe", "winlogon.exe", "services.exe", "lsass.exe",
                             "userinit.exe", "autochk.exe"})
        t.file(s32 + name, forge::make_pe({i386, 2, {}, {}, true}));
    // The maker's own files are listed in a catalogue; the bell's driver came from elsewhere.
    static const forge::SigningKey maker("Almhof Window Workplace");
    std::vector<Bytes> listed;
    for (const char* name : {"ntoskrnl.exe", "hal.dll", "drivers/disk.sys", "drivers/partmgr.sys", "drivers/volmgr.sys",
                             "drivers/storahci.sys", "drivers/Ntfs.sys", "smss.exe", "csrss.exe", "wininit.exe",
                             "winlogon.exe", "services.exe", "lsass.exe", "userinit.exe", "autochk.exe"})
        listed.push_back(t.at(s32 + name).content);
    t.file(s32 + "CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}/workplace.cat", maker.catalogue(listed));
    t.file("/Windows/explorer.exe", forge::make_pe({i386, 2, {}, {}, true}));
    t.file(s32 + "c_1252.nls", forge::noise(1500, 12));
    t.file("/Program Files/Almhof/guestbook.exe", forge::make_pe({i386, 3, {}, {}, true}));
    t.file("/Program Files/Almhof/bell.exe", forge::make_pe({i386, 2, {}, {}, true}));
    for (int i = 0; i < 60; ++i)
        t.file("/Windows/System32/spool" + std::to_string(i) + ".dat", "room " + std::to_string(i) + "\n");
    out.boot.file("/bootmgr", forge::make_boot_manager());
    out.store = forge::make_store({{system_id, "Almhof Window Workplace", "\\Windows\\system32\\winload.exe",
                                    "\\Windows", (boot_lba + boot_sectors) * 512, signature}},
                                  boot_lba * 512, signature);
    return out;
}

namespace {

/// The environment in the recovery partition: a small Windows that runs from memory.
void add_recovery_to(OfficePc& pc) {
    auto& t = pc.recovery;
    const std::string s32 = "/Windows/System32/";
    t.file(s32 + "winload.exe", forge::make_pe({i386, 16, {}, {}, true}));
    t.file(s32 + "ntoskrnl.exe", forge::make_pe({i386, 1, {"HAL.dll"}, {}, true}));
    t.file(s32 + "hal.dll", forge::make_pe({i386, 1, {"ntoskrnl.exe"}, {}, true}));
    t.file(s32 + "drivers/ramdisk.sys", forge::make_pe({i386, 1, {"ntoskrnl.exe"}, {}, true}));
    for (const char* name :
         {"smss.exe", "csrss.exe", "wininit.exe", "winlogon.exe", "services.exe", "lsass.exe", "winpeshl.exe"})
        t.file(s32 + name, forge::make_pe({i386, 2, {}, {}, true}));
    forge::HiveNode system;
    system.name = "ROOT";
    system.child("Select").number("Current", 1).number("Default", 1).number("Failed", 0).number("LastKnownGood", 1);
    auto& set = system.child("ControlSet001");
    driver(set.child("Services"), "ramdisk", 0, "System Bus Extender");
    set.child("Control\\Session Manager\\SubSystems")
        .text("Windows", "%SystemRoot%\\system32\\csrss.exe ObjectDirectory=\\Windows", 2);
    system.child("Setup").text("CmdLine", "winpeshl.exe").number("SetupType", 1);
    t.file(s32 + "config/SYSTEM", forge::make_hive(system));
    forge::HiveNode software;
    software.name = "ROOT";
    software.child("Microsoft\\Windows NT\\CurrentVersion").text("ProductName", "Almhof Workplace Repair");
    t.file(s32 + "config/SOFTWARE", forge::make_hive(software));
    forge::add_recovery(
        pc.store, system_id,
        {recovery_id, recovery_options_id, "Almhof Workplace Repair", R"(\Recovery\WindowsRE\Winre.wim)",
         R"(\Recovery\WindowsRE\boot.sdi)", R"(\windows\system32\winload.exe)", recovery_lba * 512, signature});
}

}  // namespace

OfficePc office_pc_with_recovery() {
    auto out = office_pc();
    out.with_recovery = true;
    add_recovery_to(out);
    return out;
}

Bytes OfficePc::recovery_image() const {
    forge::WimOptions options;
    options.description =
        "<WIM><TOTALBYTES>0</TOTALBYTES><IMAGE INDEX=\"1\"><WINDOWS><ARCH>0</ARCH><VERSION><MAJOR>6</MAJOR>"
        "<MINOR>1</MINOR><BUILD>7601</BUILD></VERSION></WINDOWS><NAME>Almhof Workplace Repair</NAME></IMAGE></WIM>";
    auto out = forge::make_wim(recovery, options);
    if (recovery_cut != 0) out.resize(recovery_cut);
    return out;
}

Bytes OfficePc::build() const {
    auto files = windows;
    if (with_hives) {
        files.file("/Windows/System32/config/SYSTEM", forge::make_hive(system_hive));
        files.file("/Windows/System32/config/SOFTWARE", forge::make_hive(software_hive));
    }
    auto starter = boot;
    if (with_store) starter.file("/Boot/BCD", forge::make_hive(store));
    forge::DiskSpec disk;
    disk.size = 24U << 20U;
    disk.signature = disk_signature;
    disk.boot_code = forge::make_plain_boot();
    const auto hidden = static_cast<std::uint32_t>(boot_lba);
    disk.partitions = {
        {boot_lba, forge::make_ntfs(starter, {4U << 20U, hidden, 0xA1B0F00DA1B0F001ULL, "Reserved", "BOOTMGR", false}),
         0x07, true},
        {boot_lba + boot_sectors,
         forge::make_ntfs(files, {16U << 20U, static_cast<std::uint32_t>(boot_lba + boot_sectors),
                                  0xA1B0F00DA1B0F002ULL, "Office", "", dirty}),
         0x07, false}};
    if (with_recovery) {
        forge::Tree tools = recovery_files;
        if (own_image) tools.file("/Recovery/WindowsRE/Winre.wim", recovery_image());
        if (with_ram_disk_head) tools.file("/Recovery/WindowsRE/boot.sdi", forge::make_ram_disk_head());
        disk.size = (recovery_lba * 512) + (3U << 20U);
        disk.partitions.push_back({recovery_lba,
                                   forge::make_ntfs(tools, {2U << 20U, static_cast<std::uint32_t>(recovery_lba),
                                                            0xA1B0F00DA1B0F003ULL, "Repair", "", false}),
                                   0x27, false});
    }
    return forge::make_disk(disk);
}

std::vector<Story> office_pc_disks() {
    auto changed = [](auto change) {
        return [change] {
            auto pc = office_pc();
            change(pc);
            return pc.build();
        };
    };
    const std::string s32 = "/Windows/System32/";
    return {
        {"office-pc.img", "the owner's PC as it should be", "", changed([](OfficePc&) {})},
        {"office-pc-no-bootmgr.img", "a clean-up tool removed a file without an extension", "loader",
         changed([](OfficePc& p) { p.boot.remove("/bootmgr"); })},
        {"office-pc-no-store.img", "the boot store was deleted", "configuration",
         changed([](OfficePc& p) { p.with_store = false; })},
        {"office-pc-cloned.img", "the disk was cloned and got a new signature", "entry",
         changed([](OfficePc& p) { p.disk_signature = 0x0BADCAFE; })},
        {"office-pc-no-hal.img", "a virus scanner put hal.dll away", "kernel",
         changed([s32](OfficePc& p) { p.windows.remove(s32 + "hal.dll"); })},
        {"office-pc-ahci-off.img", "somebody disabled the driver of the disk controller", "root",
         changed([](OfficePc& p) { p.system_hive.child("ControlSet001\\Services\\storahci").number("Start", 4); })},
        {"office-pc-no-csrss.img", "csrss.exe is gone", "init",
         changed([s32](OfficePc& p) { p.windows.remove(s32 + "csrss.exe"); })},
        {"office-pc-no-logon.img", "winlogon.exe is gone", "services",
         changed([s32](OfficePc& p) { p.windows.remove(s32 + "winlogon.exe"); })},
        {"office-pc-repair.img", "the PC as it was bought, with a recovery partition", "",
         [] { return office_pc_with_recovery().build(); }},
        {"office-pc-repair-cut.img", "the recovery image was copied only in part", "",
         [] {
             auto pc = office_pc_with_recovery();
             pc.recovery_cut = pc.recovery_image().size() / 2;
             return pc.build();
         }},
        {"office-pc-filter-gone.img", "a backup program was removed, its filter driver's name was not", "root",
         changed([](OfficePc& p) {
             p.system_hive.child(R"(ControlSet001\Control\Class\{4d36e967-e325-11ce-bfc1-08002be10318})")
                 .text("Class", "DiskDrive")
                 .texts("UpperFilters", {"partmgr", "almsave"});
         })},
    };
}

}  // namespace demo
