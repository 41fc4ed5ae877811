// SPDX-License-Identifier: MIT
#pragma once

#include <algorithm>

#include <herberge/flash.hpp>

#include "loader/uboot/console.hpp"
#include "support.hpp"
#include "weather_station.hpp"

namespace support {

using namespace herberge;  // NOLINT: a header of tests alone

/// A machine that starts by a board's rules.
struct BoardVerdict {
    herberge::Machine machine;
    herberge::Verdict verdict;
    /// `flash`: a dump with an environment; `second`: a further disk, or raw flash; empty: there is none.
    /// `layout`: how that flash is divided; empty: it is a disk.
    BoardVerdict(Bytes card, const std::string& name, const Bytes& flash = {}, Bytes second = {},
                 const std::string& layout = {})
        : machine(second.empty() ? machine_of(std::move(card))
                                 : machine_of_disks({std::move(card), std::move(second)})) {
        if (!layout.empty()) {
            auto& disk = machine.disks.back();
            divide_flash(disk, *parse_flash_layout(layout, disk.source->size()));
            assemble_layers(machine);
        }
        CheckOptions options;
        options.firmware = FirmwareKind::Board;
        options.board = name;
        if (!flash.empty()) options.flash = memory_source(flash, "flash.bin");
        verdict = check(machine, options);
        for (const auto& finding : verdict.findings) support::expect_screen_of_table(finding);
    }
    [[nodiscard]] const SystemVerdict& system() const { return verdict.systems.at(0); }
    [[nodiscard]] std::string stage() const {
        return system().stops_at ? std::string(stage_id(*system().stops_at)) : std::string(starts_id(system().starts));
    }
    [[nodiscard]] Code why() const {
        const auto& rung = system().at(*system().stops_at);
        return rung.findings.empty() ? Code::DiskTooSmall : rung.findings.front();
    }
    [[nodiscard]] bool has(Code code) const {
        return std::ranges::find(verdict.findings, code, &Finding::code) != verdict.findings.end();
    }
};

// --- cards ----------------------------------------------------------------------------------------------------------

/// A card for an arm64 board with U-Boot in its flash.
struct Card {
    forge::Tree files;
    std::string configuration =
        "DEFAULT station\nTIMEOUT 20\nlabel station\n\tmenu label Station\n\tlinux /Image\n\tinitrd /disk.img\n"
        "\tappend root=UUID=57a71000-0001-4a01-8a01-00000057a701 ro\nlabel older\n\tkernel /Image.old\n"
        "\tappend root=UUID=57a71000-0001-4a01-8a01-00000057a701 ro\n";
    std::string where = "/extlinux/extlinux.conf";
    bool active = true;
    Card() {
        const auto station = demo::weather_station();
        files.file("/Image", forge::make_arm64_image("6.1.0-almhof-armmp"));
        files.file("/Image.old", forge::make_arm64_image("6.1.0-almhof-armmp"));
        files.file("/disk.img", forge::gzip(forge::make_cpio(station.ramdisk)));
    }
    /// More bytes lie behind the partitions, from `behind` on.
    std::vector<std::pair<std::size_t, Bytes>> behind;
    [[nodiscard]] Bytes build() const {
        auto tree = files;
        if (!configuration.empty()) tree.file(where, configuration);
        forge::FatOptions fat;
        fat.size = 4U << 20U;
        forge::ExtOptions ext;
        ext.size = 4U << 20U;
        ext.uuid = forge::uuid_from(demo::station_root_uuid);
        forge::DiskSpec disk;
        disk.size = 12U << 20U;
        disk.partitions = {{2048, forge::make_fat(tree, fat).bytes, 0x0C, active},
                           {2048 + 8192, forge::make_ext(demo::weather_station().root, ext), 0x83, false}};
        auto out = forge::make_disk(disk);
        for (const auto& [at, bytes] : behind) std::ranges::copy(bytes, out.begin() + static_cast<std::ptrdiff_t>(at));
        return out;
    }
};

/// The card's script says what is started.
struct ScriptCard : Card {
    std::string script;
    explicit ScriptCard(std::string text) : script(std::move(text)) { configuration.clear(); }
    [[nodiscard]] BoardVerdict board(const Bytes& flash = {}, Bytes second = {}) {
        files.file(
            "/boot.scr",
            forge::make_legacy_image(
                forge::to_bytes("setenv bootargs root=UUID=" + std::string(demo::station_root_uuid) + " ro\n" + script),
                {.type = 6}));
        return BoardVerdict(build(), "uboot-arm64", flash, std::move(second));
    }
};
inline const std::string load_both = "load mmc 0:1 0x42000000 /Image\nload mmc 0:1 0x48000000 /disk.img\n";

/// What a text of commands prints, on a card with some files.
struct Typed {
    Machine machine;
    loader::uboot::Outcome outcome;
    explicit Typed(const std::string& commands, loader::uboot::Variables more = {}) {
        forge::Tree files;
        files.file("/a.txt", "one=1\n# a remark\ntwo = zwei\n").file("/long name.txt", std::string(300, 'x'));
        files.file("/loop.scr", forge::make_legacy_image(forge::to_bytes("echo in\nsource 200\n"), {.type = 6}));
        files.file("/leave.scr", forge::make_legacy_image(forge::to_bytes("echo in\nexit\necho never\n"), {.type = 6}));
        forge::DiskSpec disk;
        disk.size = 12U << 20U;
        auto fat = forge::make_fat(files).bytes;
        disk.partitions = {{2048, std::move(fat), 0x0C, true}};
        machine = support::machine_of(forge::make_disk(disk));
        more.insert_or_assign("typed", commands);
        outcome = loader::uboot::Console(machine, *find_board("uboot-arm"), std::move(more), false).boot("typed");
    }
    [[nodiscard]] std::string printed() const {
        std::string out;
        for (const auto& line : outcome.screen) out += line + "|";
        return out;
    }
};

}  // namespace support
