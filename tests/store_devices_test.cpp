// SPDX-License-Identifier: MIT
// Devices as the records of a Windows boot store name them, byte by byte: what answers to them, and what is said where
// nothing does.
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;
using support::Checked;

namespace {

// --- devices as the store's records name them ------------------------------------------------------------------------

/// A record of a device: 16 bytes for an object with options, type, flags, size, a spare word, and the body.
Bytes device_record(std::uint32_t type, Bytes body) {
    Bytes out(32);
    forge::put32(out, 16, type);
    forge::put32(out, 24, static_cast<std::uint32_t>(16 + body.size()));
    out.insert(out.end(), body.begin(), body.end());
    return out;
}
/// The body for a partition of a disk with a GPT: the partition's GUID, the disk's kind, style 0, the disk's GUID.
Bytes gpt_partition(const Bytes& partition, const Bytes& disk) {
    Bytes out(partition);
    out.resize(24);
    out.insert(out.end(), disk.begin(), disk.end());
    return out;
}
Bytes local_device(std::uint32_t kind, std::size_t more = 36) {
    Bytes out(4 + more);
    forge::put32(out, 0, kind);
    return out;
}
constexpr const char* office_entry = "Objects\\{0a1b0f00-0000-4000-8000-00000000c001}\\Elements\\";
/// The office PC whose entry's loader, and whose system, lie on such devices.
demo::OfficePc office_on(const Bytes& loader, const Bytes& system = {}) {
    auto pc = demo::office_pc();
    pc.store.child(std::string(office_entry) + "11000001").bytes("Element", loader);
    pc.store.child(std::string(office_entry) + "21000001").bytes("Element", system.empty() ? loader : system);
    return pc;
}

struct StoreDevice {
    const char* name;
    Bytes record;
    const char* stage;
    std::optional<Code> code;
    const char* text;  ///< of the entry's stage
};
class StoreDevices : public testing::TestWithParam<StoreDevice> {};
TEST_P(StoreDevices, AreUnderstoodOrTold) {
    const Checked checked(office_on(GetParam().record).build());
    const auto& entry = checked.system().at(Stage::Entry);
    EXPECT_EQ(checked.stage(), GetParam().stage) << entry.text;
    EXPECT_NE(entry.text.find(GetParam().text), std::string::npos) << entry.text;
    if (GetParam().code) {
        EXPECT_EQ(entry.findings, std::vector<Code>{*GetParam().code});
        EXPECT_EQ(entry.state, State::Breaks);
        EXPECT_EQ(checked.system().at(Stage::Configuration).state, State::Holds);
        EXPECT_EQ(checked.system().at(Stage::Kernel).state, State::NotReached);
    }
}
INSTANTIATE_TEST_SUITE_P(
    Windows, StoreDevices,
    testing::Values(
        StoreDevice{"WhereverItIsFound", device_record(8, Bytes(40)), "yes", {}, "winload.exe"},
        StoreDevice{"TheBootManagersOwn", device_record(5, {}), "entry", Code::EntryKernelMissing,
                    "starts d1p1:/Windows/system32/winload.exe, which is not there"},
        StoreDevice{"APartitionOfAGptThatIsNotHere", device_record(6, gpt_partition(Bytes(16, 0x11), Bytes(16, 0x22))),
                    "entry", Code::StoreDeviceGone,
                    "from the partition 11111111-1111-1111-1111-111111111111 of the disk "
                    "22222222-2222-2222-2222-222222222222, and nothing here answers to that"},
        StoreDevice{
            "APartitionBySignatureThatIsNotHere", forge::partition_device(5U << 20U, 0xDEAD0001), "entry",
            Code::StoreDeviceGone,
            "from the partition at byte 5242880 of the disk with signature dead0001, and nothing here answers"}),
    support::by_name);

/// What the two stores' comparison says of the devices that are not walked.
TEST(StoreDevicesInAComparison, EachIsNamed) {
    const struct {
        Bytes record;
        const char* text;
    } cases[] = {{device_record(0, local_device(6)), "a virtual disk in a file"},
                 {device_record(0, local_device(4)), "a local device of type 4"},
                 {device_record(0, local_device(5)), "a file that its record does not tell"},
                 {device_record(0, local_device(3)), "a file that its record does not tell"},
                 {device_record(5, {}), "the volume the boot manager was started from"},
                 {device_record(8, {}), "wherever its file is found"},
                 {device_record(7, {}), "a device of type 7"},
                 {device_record(6, Bytes(39)), "a device of type 6"},
                 {Bytes(31), "a device record that is too short"}};
    for (const auto& one : cases) {
        const auto before = support::machine_of(demo::office_pc().build());
        const auto after = support::machine_of(office_on(one.record).build());
        std::string lines;
        for (const auto& difference : compare_machines(before, {}, after, {}).differences)
            for (const auto& line : difference.details) lines += line + "\n";
        EXPECT_NE(lines.find(std::string("device: ") + one.text + "\n"), std::string::npos) << one.text << "\n"
                                                                                            << lines;
    }
}

TEST(StoreDevicesOnTwoDisks, APartitionOfAGptAnswersByBothOfItsNames) {
    auto pc = demo::office_pc();
    forge::DiskSpec spec;
    spec.gpt = true;
    auto files = pc.windows;
    files.file("/Windows/System32/config/SYSTEM", forge::make_hive(pc.system_hive));
    files.file("/Windows/System32/config/SOFTWARE", forge::make_hive(pc.software_hive));
    spec.partitions = {{2048, forge::make_ntfs(files, {16U << 20U, 2048, 3, "Annexe", "", false}), 0x07, false}};
    const auto second = forge::make_disk(spec);
    // As the table has them (UEFI specification 5.3): the disk's GUID in the header, the partition's in its entry.
    const Bytes disk(second.begin() + 512 + 56, second.begin() + 512 + 72);
    const Bytes partition(second.begin() + 1024 + 16, second.begin() + 1024 + 32);
    const auto judged = [&](const Bytes& partition_id, const Bytes& disk_id) {
        Machine machine;
        machine.disks.push_back(inspect_disk(
            support::source_of(office_on(device_record(6, gpt_partition(partition_id, disk_id))).build()), 1, "a"));
        machine.disks.push_back(inspect_disk(memory_source(second, "d2", 2), 2, "b"));
        assemble_layers(machine);
        return check(machine, {});
    };
    const auto at_the_entry = [](const Verdict& verdict) {
        for (const auto& system : verdict.systems)
            if (system.entry == "Almhof Window Workplace") return system.at(Stage::Entry);
        return verdict.systems.at(0).at(Stage::Entry);
    };
    EXPECT_EQ(at_the_entry(judged(partition, disk)).state, State::Holds) << at_the_entry(judged(partition, disk)).text;
    for (std::size_t wrong = 0; wrong < 2; ++wrong) {
        auto other = wrong == 0 ? partition : disk;
        other[7] ^= 1U;
        const auto verdict = wrong == 0 ? judged(other, disk) : judged(partition, other);
        EXPECT_EQ(at_the_entry(verdict).findings, std::vector<Code>{Code::StoreDeviceGone});
    }
}

}  // namespace
