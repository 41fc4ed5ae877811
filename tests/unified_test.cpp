// SPDX-License-Identifier: MIT
// Unified images that the firmware starts directly, without a boot manager.
#include <algorithm>
#include <functional>

#include "kiosk.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

constexpr const char* fallback = "/EFI/BOOT/BOOTX64.EFI";
constexpr const char* own = "/EFI/almhof/checkin.efi";

/// The kiosk without a boot manager: its unified image lies where the firmware looks.
demo::Kiosk direct(const std::string& place = fallback) {
    auto kiosk = demo::kiosk();
    const auto& nodes = kiosk.esp.nodes();
    const auto image = std::ranges::find_if(nodes, [](const auto& n) { return n.first.starts_with("/EFI/Linux/"); });
    const Bytes bytes = image->second.content;
    for (const char* gone : {fallback, own, "/loader"}) kiosk.esp.remove(gone);
    kiosk.esp.remove(std::string(image->first));
    kiosk.esp.file(place, bytes);
    return kiosk;
}

struct Walked {
    Machine machine;
    Verdict verdict;
    Walked(const Bytes& disk, const Bytes& flash = {}) : machine(support::machine_of(disk)) {
        CheckOptions options;
        options.firmware = FirmwareKind::Uefi;
        if (!flash.empty()) options.variables = *parse_uefi_flash(flash);
        verdict = check(machine, options);
    }
    [[nodiscard]] const SystemVerdict& system() const { return verdict.systems.front(); }
};

Bytes option_with(const Bytes& disk, std::u16string_view text) {
    Bytes words;
    for (const char16_t c : text) forge::put16(words, words.size(), c);
    const std::string global(UefiVariables::global);
    return forge::make_flash({{"BootOrder", global, {4, 0}},
                              {"Boot0004", global,
                               forge::make_boot_option("Almhof", 1, demo::kiosk_partition_guid(disk, 1),
                                                       "\\EFI\\almhof\\checkin.efi", true, words)}});
}

TEST(UnifiedImage, StartsWithoutABootManager) {
    const Walked walked(direct().build());
    ASSERT_EQ(walked.verdict.systems.size(), 1U);
    const auto& system = walked.system();
    EXPECT_EQ(system.starts, Starts::Yes);
    EXPECT_EQ(system.place, "d1p2");
    EXPECT_EQ(system.entry, "Almhof Check-in 4 (Steinbock)");
    EXPECT_EQ(system.at(Stage::Loader).text, "the unified image's own EFI stub");
    EXPECT_EQ(system.at(Stage::Configuration).text, "the command line is the one in the image (section .cmdline)");
    EXPECT_EQ(system.at(Stage::Kernel).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Ramdisk).state, State::Holds);
    EXPECT_NE(system.at(Stage::Root).text.find(std::string("root=UUID=") + demo::kiosk_uuid + " is d1p2"),
              std::string::npos)
        << system.at(Stage::Root).text;
    ASSERT_FALSE(system.route.empty());
    EXPECT_EQ(system.route.front(), "d1p1:/EFI/BOOT/BOOTX64.EFI (unified kernel image)");
}

TEST(UnifiedImage, TheRootThatItsOwnCommandLineNamesIsLookedFor) {
    auto kiosk = direct();
    auto& bytes = kiosk.esp.at(fallback).content;
    const std::string from = demo::kiosk_uuid;
    const auto at = std::search(bytes.begin(), bytes.end(), from.begin(), from.end());
    ASSERT_NE(at, bytes.end());
    *at = *at == '0' ? '1' : '0';
    const Walked walked(kiosk.build());
    const auto& system = walked.system();
    EXPECT_EQ(system.starts, Starts::No);
    EXPECT_EQ(system.stops_at, Stage::Root);
    EXPECT_EQ(system.at(Stage::Entry).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Init).state, State::NotReached);
}

TEST(UnifiedImage, TheTextOfABootOptionCountsInsteadOfItsOwn) {
    const auto disk = direct(own).build();
    const Walked other(disk, option_with(disk, u"root=UUID=00000000-0000-4000-8000-000000000000 ro"));
    EXPECT_EQ(other.system().stops_at, Stage::Root);
    EXPECT_EQ(other.system().at(Stage::Configuration).text, "the boot option's own text is the command line");
    const Walked none(disk, option_with(disk, u""));
    EXPECT_EQ(none.system().starts, Starts::Yes);
    // What is no text is for somebody else (stub.c: a first character above 1Fh).
    const Walked marks(disk, option_with(disk, u"\x01root=nothing"));
    EXPECT_EQ(marks.system().starts, Starts::Yes);
    EXPECT_EQ(marks.system().at(Stage::Configuration).text,
              "the command line is the one in the image (section .cmdline)");
}

/// Where the kernel begins in the unified image: two bytes before and 200h after it, boot sectors have their marks.
std::size_t kernel_in(const Bytes& image) {
    const std::string mark = "HdrS";
    const auto at = std::search(image.begin(), image.end(), mark.begin(), mark.end());
    EXPECT_NE(at, image.end());
    return static_cast<std::size_t>(at - image.begin()) - 0x202;
}

TEST(UnifiedImage, AKernelThatIsNoImageIsNotStarted) {
    auto kiosk = direct();
    auto& bytes = kiosk.esp.at(fallback).content;
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(kernel_in(bytes)), 2, std::uint8_t{0});
    const Walked walked(kiosk.build());
    const auto& system = walked.system();
    EXPECT_EQ(system.starts, Starts::No);
    EXPECT_EQ(system.stops_at, Stage::Kernel);
    EXPECT_EQ(system.at(Stage::Loader).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Ramdisk).state, State::NotReached);
    EXPECT_EQ(system.symptom, "Bad kernel image: Load Error");
    EXPECT_NE(system.at(Stage::Kernel)
                  .text.find("the stub of d1p1:/EFI/BOOT/BOOTX64.EFI does not start the kernel in "
                             "it"),
              std::string::npos)
        << system.at(Stage::Kernel).text;
}

TEST(UnifiedImage, TheKernelsOldMarkIsNotAskedFor) {
    auto kiosk = direct();
    auto& bytes = kiosk.esp.at(fallback).content;
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(kernel_in(bytes) + 0x202), 4, std::uint8_t{0});
    EXPECT_EQ(Walked(kiosk.build()).system().starts, Starts::Yes);
}

TEST(UnifiedImage, AKernelForAnotherProcessorIsNotStarted) {
    auto kiosk = direct();
    auto& bytes = kiosk.esp.at(fallback).content;
    const auto kernel = kernel_in(bytes);
    const std::size_t pe = kernel + forge::get32(bytes, kernel + 0x3C);
    forge::put16(bytes, pe + 4, 0xAA64);
    const Walked walked(kiosk.build());
    EXPECT_EQ(walked.system().stops_at, Stage::Kernel);
    EXPECT_EQ(walked.system().symptom, "Error loading kernel image: Unsupported");
}

/// An entry file for a kernel, beside the boot manager; `change` spoils the kernel.
Walked with_entry(const std::function<void(Bytes&)>& change) {
    auto kiosk = demo::kiosk();
    const auto kernel =
        std::ranges::find_if(kiosk.root.nodes(), [](const auto& n) { return n.first.starts_with("/boot/vmlinuz-"); });
    Bytes bytes = forge::with_efi_stub(kernel->second.content);
    change(bytes);
    kiosk.esp.remove("/EFI/Linux").file("/EFI/almhof/kernel.efi", bytes);
    kiosk.esp.file("/loader/loader.conf", "timeout 0\n");
    kiosk.esp.file(
        "/loader/entries/desk.conf",
        std::string("title Desk\nlinux /EFI/almhof/kernel.efi\noptions root=UUID=") + demo::kiosk_uuid + "\n");
    return Walked(kiosk.build());
}

TEST(BootManager, AKernelThatTheFirmwareRefusesIsToldWithBackslashes) {
    const std::pair<std::function<void(Bytes&)>, std::string> rows[] = {
        {[](Bytes& k) { k.clear(); }, "Unsupported"},
        {[](Bytes& k) { k.resize(k.size() / 2); }, "Unsupported"},
        {[](Bytes& k) { k[0] = 0; }, "Unsupported"},
        {[](Bytes& k) { forge::put16(k, forge::get32(k, 0x3C) + 4, 0xAA64); }, "Unsupported"},
    };
    for (std::size_t i = 0; i < std::size(rows); ++i) {
        const auto walked = with_entry(rows[i].first);
        ASSERT_EQ(walked.verdict.systems.size(), 1U) << i;
        EXPECT_EQ(walked.system().stops_at, Stage::Kernel) << i;
        EXPECT_EQ(walked.system().symptom, "Error loading \\EFI\\almhof\\kernel.efi: " + rows[i].second) << i;
        EXPECT_EQ(walked.system().at(Stage::Configuration).state, State::Holds) << i;
    }
}

TEST(BootManager, AKernelWhoseClustersAreLostIsNotFound) {
    auto kiosk = demo::kiosk();
    const auto kernel =
        std::ranges::find_if(kiosk.root.nodes(), [](const auto& n) { return n.first.starts_with("/boot/vmlinuz-"); });
    kiosk.esp.remove("/EFI/Linux").file("/EFI/almhof/kernel.efi", forge::with_efi_stub(kernel->second.content));
    kiosk.esp.file("/loader/loader.conf", "timeout 0\n");
    kiosk.esp.file("/loader/entries/desk.conf", "title Desk\nlinux /EFI/almhof/kernel.efi\n");
    auto disk = kiosk.build();
    const auto machine = support::machine_of(disk);
    const auto* files = machine.at("d1p1")->files(Observer::Uefi);
    const auto found = resolve(*files, "/EFI/almhof/kernel.efi");
    ASSERT_TRUE(found);
    const auto pieces = files->extents(found->file.id);
    ASSERT_TRUE(pieces);
    // Its first cluster's entry in the first table names none that there is (FAT specification, section 4).
    constexpr std::size_t volume = 2048 * 512;
    const auto word = [&](std::size_t at) { return disk[volume + at] + std::size_t{256} * disk[volume + at + 1]; };
    const std::size_t reserved = word(14) * 512;
    const std::size_t table = word(22) * 512;
    const std::size_t root = word(17) * 32;
    const std::size_t cluster = disk[volume + 13] * 512U;
    const auto number = (pieces->front().base_offset - reserved - 2 * table - root) / cluster + 2;
    ASSERT_EQ(files->info().name(), "fat12");
    const auto at = volume + reserved + number + number / 2;
    const unsigned both = disk[at] | static_cast<unsigned>(disk[at + 1]) << 8U;
    forge::put16(disk, at, static_cast<std::uint16_t>(both & (number % 2 != 0 ? 0x000FU : 0xF000U)));
    const Walked walked(disk);
    EXPECT_EQ(walked.system().stops_at, Stage::Kernel);
    EXPECT_EQ(walked.system().symptom, "Error loading \\EFI\\almhof\\kernel.efi: Not Found");
}

}  // namespace
