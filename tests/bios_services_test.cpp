// SPDX-License-Identifier: MIT
// The firmware's services as boot code meets them: each piece asks for one, and prints what it got. The answers are
// those of SeaBIOS on an emulated PC (HERBERGE_KEEP_PIECES=FOLDER writes the disks, to be started there), but for what
// differs from machine to machine: the size of memory, the clock, and a disk's cylinders and heads.
#include <cstdlib>
#include <fstream>

#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

/// Code of 16 bits, as bytes.
struct Code16 {
    Bytes bytes;
    Code16& raw(std::initializer_list<int> more) {
        for (const int b : more) bytes.push_back(static_cast<std::uint8_t>(b));
        return *this;
    }
    Code16& word(unsigned value) { return raw({static_cast<int>(value & 0xFFU), static_cast<int>(value >> 8U)}); }
    Code16& ax(unsigned v) { return raw({0xB8}).word(v); }
    Code16& cx(unsigned v) { return raw({0xB9}).word(v); }
    Code16& dx(unsigned v) { return raw({0xBA}).word(v); }
    Code16& bx(unsigned v) { return raw({0xBB}).word(v); }
    Code16& bp(unsigned v) { return raw({0xBD}).word(v); }
    Code16& si(unsigned v) { return raw({0xBE}).word(v); }
    Code16& di(unsigned v) { return raw({0xBF}).word(v); }
    /// mov with 32 bits into the register of that opcode.
    Code16& wide(int opcode, std::uint32_t v) { return raw({0x66, opcode}).word(v & 0xFFFFU).word(v >> 16U); }
    Code16& interrupt(int number) { return raw({0xCD, number}); }
    /// A word of memory into a register.
    Code16& load_ax(unsigned at) { return raw({0xA1}).word(at); }
    Code16& load_bx(unsigned at) { return raw({0x8B, 0x1E}).word(at); }
    Code16& load_cx(unsigned at) { return raw({0x8B, 0x0E}).word(at); }
    Code16& load_dx(unsigned at) { return raw({0x8B, 0x16}).word(at); }
    Code16& store(unsigned at, unsigned value) { return raw({0xC7, 0x06}).word(at).word(value); }
    Code16& call(unsigned at) {
        const auto from = static_cast<unsigned>(bytes.size() + 3);
        return raw({0xE8}).word((at - from) & 0xFFFFU);
    }
};

/// A disk of 4 MiB whose first sector runs the piece, and prints AX, BX, CX, DX and whether carry is set.
Bytes disk_of(const Code16& piece) {
    constexpr unsigned print = 0x180;
    Code16 code;
    // xor ax,ax; mov ds, es and ss,ax; mov sp,7C00h; sti; cld
    code.raw({0x31, 0xC0, 0x8E, 0xD8, 0x8E, 0xC0, 0x8E, 0xD0, 0xBC, 0x00, 0x7C, 0xFB, 0xFC});
    code.bytes.insert(code.bytes.end(), piece.bytes.begin(), piece.bytes.end());
    // pushf; push dx, cx, bx, ax
    code.raw({0x9C, 0x52, 0x51, 0x53, 0x50});
    for (int i = 0; i < 4; ++i) code.raw({0x58}).call(print);
    // pop ax; and ax,1; print; hlt; jmp to it
    code.raw({0x58, 0x25, 0x01, 0x00}).call(print).raw({0xF4, 0xEB, 0xFD});
    EXPECT_LE(code.bytes.size(), print);
    code.bytes.resize(print);
    // Four digits of AX and a space, by INT 10h, AH=0Eh.
    code.raw({0x51, 0x53, 0xB9, 0x04, 0x00, 0xC1, 0xC0, 0x04, 0x50, 0x24, 0x0F, 0x04,
              0x90, 0x27, 0x14, 0x40, 0x27, 0xB4, 0x0E, 0xBB, 0x07, 0x00, 0xCD, 0x10,
              0x58, 0xE2, 0xEA, 0xB8, 0x20, 0x0E, 0xCD, 0x10, 0x5B, 0x59, 0xC3});
    auto disk = code.bytes;
    disk.resize(std::size_t{4} << 20U);
    disk[510] = 0x55;
    disk[511] = 0xAA;
    disk[1024] = 0x34;  // sector 2 begins with 1234h
    disk[1025] = 0x12;
    return disk;
}

struct Piece {
    const char* name;
    Code16 code;
    const char* prints;  ///< AX BX CX DX carry
};
void PrintTo(const Piece& piece, std::ostream* out) { *out << piece.name; }

class BiosService : public testing::TestWithParam<Piece> {};

TEST_P(BiosService, Answers) {
    auto disk = disk_of(GetParam().code);
    if (const char* folder = std::getenv("HERBERGE_KEEP_PIECES")) {
        const std::string path = std::string(folder) + "/" + GetParam().name;
        std::ofstream(path + ".img", std::ios::binary)
            .write(reinterpret_cast<const char*>(disk.data()), static_cast<std::streamsize>(disk.size()));
        std::ofstream(path + ".prints") << GetParam().prints;
    }
    const auto machine = support::machine_of(std::move(disk));
    auto options = RehearsalOptions::brief();
    options.keys = {{0.0, *key_code("enter")}, {0.0, *key_code("up")}};
    const auto ran = rehearse(machine, 1, options);
    EXPECT_EQ(ran.text, GetParam().prints) << ran.end_text;
}

// Registers that a piece sets before it asks, so that what is not answered is known, too.
Code16 asked(unsigned ax = 0, unsigned bx = 0xBBBB, unsigned cx = 0xCCCC, unsigned dx = 0xDDDD) {
    return Code16().ax(ax).bx(bx).cx(cx).dx(dx);
}
constexpr unsigned buffer = 0x8000, packet = 0x7000;
/// A packet for the extensions: `count` sectors from `lba` on to the buffer.
Code16 packet_of(unsigned size, unsigned count, unsigned lba) {
    return Code16()
        .store(packet, size)
        .store(packet + 2, count)
        .store(packet + 4, buffer)
        .store(packet + 6, 0)
        .store(packet + 8, lba)
        .store(packet + 10, 0)
        .store(packet + 12, 0)
        .store(packet + 14, 0)
        .si(packet);
}
Code16 then(Code16 first, const Code16& second) {
    first.bytes.insert(first.bytes.end(), second.bytes.begin(), second.bytes.end());
    return first;
}

/// Frames of code page 437 are drawn with what every terminal has.
TEST(BiosScreen, ShowsFramesInPlainLetters) {
    constexpr int letters[] = {0xB2, 0xB3, 0xB4, 0xBA, 0xC4, 0xCD, 0xDA, 0xDB, 0x1F, 0x7E, 0x7F};
    Code16 piece;
    for (const int letter : letters) piece.raw({0xB8, letter, 0x0E}).bx(0x0007).interrupt(0x10);
    piece.raw({0xB8, 0x0D, 0x0E}).interrupt(0x10).raw({0xB8, 0x0A, 0x0E}).interrupt(0x10);
    const auto ran = rehearse(support::machine_of(disk_of(piece)), 1, RehearsalOptions::brief());
    ASSERT_FALSE(ran.screen.empty());
    EXPECT_TRUE(std::ranges::any_of(ran.screen, [](const std::string& line) { return line == " |+|--+  ~"; }))
        << ran.screen.front() << " " << ran.end_text;
}

/// A BIOS from before the extensions: none of their calls does anything, and each says so.
TEST(BiosDisk, WithoutTheExtensionsTheirCallsFail) {
    auto options = RehearsalOptions::brief();
    options.extensions = false;
    for (const unsigned function : {0x41U, 0x42U, 0x43U, 0x44U, 0x47U, 0x48U, 0x49U}) {
        const auto piece = then(then(packet_of(16, 1, 2), asked(function << 8U, 0x55AA, 0xCCCC, 0x80).interrupt(0x13)),
                                Code16().load_cx(buffer));
        const auto ran = rehearse(support::machine_of(disk_of(piece)), 1, options);
        EXPECT_EQ(ran.text, "0100 55AA 0000 0080 0001 ") << function << ran.end_text;
        EXPECT_TRUE(std::ranges::none_of(ran.events, [](const auto& e) { return e.range && e.range->offset == 1024; }));
    }
    // What was there before them still is.
    const auto piece = then(asked(0x0201, buffer, 0x0003, 0x80).interrupt(0x13), Code16().load_cx(buffer));
    EXPECT_EQ(rehearse(support::machine_of(disk_of(piece)), 1, options).text, "0001 8000 1234 0080 0000 ");
}

INSTANTIATE_TEST_SUITE_P(
    Disk, BiosService,
    testing::Values(
        Piece{"DiskReset", asked(0x00FF, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "00FF BBBB CCCC 0080 0000 "},
        Piece{"DiskThatIsNot", asked(0x0201, buffer, 0x0001, 0x85).interrupt(0x13), "0101 8000 0001 0085 0001 "},
        Piece{"DiskLastStatusGood", asked(0x0000, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).ax(0x01FF).interrupt(0x13),
              "00FF BBBB CCCC 0080 0000 "},
        Piece{"DiskLastStatusBad", asked(0x9900, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).ax(0x01FF).interrupt(0x13),
              "01FF BBBB CCCC 0080 0001 "},
        Piece{"DiskReadThree",
              asked(0x0203, buffer, 0x0001, 0x80).interrupt(0x13).load_bx(buffer + 510).load_cx(buffer + 1024),
              "0003 AA55 1234 0080 0000 "},
        Piece{"DiskReadNone", asked(0x0200, buffer, 0x0001, 0x80).interrupt(0x13), "0100 8000 0001 0080 0001 "},
        Piece{"DiskReadSectorZero", asked(0x0201, buffer, 0x0000, 0x80).interrupt(0x13), "0101 8000 0000 0080 0001 "},
        Piece{"DiskReadSector64", asked(0x0201, buffer, 0x0040, 0x80).interrupt(0x13), "0101 8000 0040 0080 0001 "},
        Piece{"DiskVerify", asked(0x0401, buffer, 0x0001, 0x80).interrupt(0x13), "0001 8000 0001 0080 0000 "},
        Piece{"DiskUnknown", asked(0x9900, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "0100 BBBB CCCC 0080 0001 "},
        Piece{"DiskType", asked(0x1500, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "0300 BBBB 0000 2000 0000 "},
        Piece{"DiskTypeOfNone", asked(0x1500, 0xBBBB, 0xCCCC, 0x85).interrupt(0x13), "0100 BBBB CCCC 0085 0001 "},
        Piece{"DiskParameters", asked(0x0800, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "0000 BBBB 003F FE01 0000 "},
        Piece{"DiskExtensions", asked(0x4100, 0x55AA, 0xCCCC, 0x80).interrupt(0x13), "3000 AA55 0007 0080 0000 "},
        Piece{"DiskExtensionsWrongWord", asked(0x4100, 0x55AB, 0xCCCC, 0x80).interrupt(0x13),
              "3000 AA55 0007 0080 0000 "},
        Piece{"DiskExtendedRead",
              then(packet_of(16, 1, 2),
                   asked(0x4200, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).load_bx(buffer).load_cx(packet + 2)),
              "0000 1234 0001 0080 0000 "},
        Piece{"DiskExtendedReadPastTheEnd",
              then(packet_of(16, 1, 9000), asked(0x4200, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).load_cx(packet + 2)),
              "0100 BBBB 0001 0080 0001 "},
        Piece{"DiskExtendedReadShortPacket",
              then(packet_of(15, 1, 2), asked(0x4200, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).load_cx(packet + 2)),
              "0000 BBBB 0001 0080 0000 "},
        Piece{"DiskExtendedReadOverTheEnd",
              then(packet_of(16, 2, 8191), asked(0x4200, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).load_cx(packet + 2)),
              "0C00 BBBB 0000 0080 0001 "},
        Piece{"DiskExtendedReadNothing",
              then(packet_of(16, 0, 2), asked(0x4200, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).load_cx(packet + 2)),
              "0000 BBBB 0000 0080 0000 "},
        Piece{"DiskExtendedReadMany",
              then(packet_of(16, 0x90, 2),
                   asked(0x4200, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13).load_bx(buffer).load_cx(packet + 2)),
              "0900 0000 0000 0080 0001 "},
        Piece{"DiskReadOverTheEnd", asked(0x0203, buffer, 0x3F07, 0x0280).interrupt(0x13), "0103 8000 3F07 0280 0001 "},
        Piece{"DiskReadHeadThatIsNot", asked(0x0201, buffer, 0x0001, 0xFF80).interrupt(0x13),
              "0101 8000 0001 FF80 0001 "},
        Piece{"DiskReset85", asked(0x0000, 0xBBBB, 0xCCCC, 0x85).interrupt(0x13), "0100 BBBB CCCC 0085 0001 "},
        Piece{"DiskReset0D", asked(0x0D00, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "0000 BBBB CCCC 0080 0000 "},
        Piece{"DiskFormat", asked(0x0501, buffer, 0x0001, 0x80).interrupt(0x13), "0001 8000 0001 0080 0000 "},
        Piece{"DiskSeekOld", asked(0x0C00, 0xBBBB, 0x0001, 0x80).interrupt(0x13), "0000 BBBB 0001 0080 0000 "},
        Piece{"DiskReady", asked(0x1000, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "0000 BBBB CCCC 0080 0000 "},
        Piece{"DiskRecalibrate", asked(0x1100, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "0000 BBBB CCCC 0080 0000 "},
        Piece{"DiskDiagnostic", asked(0x1400, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13), "0000 BBBB CCCC 0080 0000 "},
        Piece{"DiskExtensionsOfNone", asked(0x4100, 0x55AA, 0xCCCC, 0x85).interrupt(0x13), "0100 55AA CCCC 0085 0001 "},
        Piece{"DiskExtendedVerify", then(packet_of(16, 1, 2), asked(0x4400, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13)),
              "0000 BBBB CCCC 0080 0000 "},
        Piece{"DiskSeek", then(packet_of(16, 1, 2), asked(0x4700, 0xBBBB, 0xCCCC, 0x80).interrupt(0x13)),
              "0000 BBBB CCCC 0080 0000 "},
        Piece{"DiskExtendedWrite",
              then(packet_of(16, 1, 5), Code16().store(buffer, 0x5A5A))
                  .ax(0x4300)
                  .dx(0x80)
                  .interrupt(0x13)
                  .store(buffer, 0)
                  .ax(0x4200)
                  .interrupt(0x13)
                  .load_bx(buffer)
                  .cx(0),
              "0000 5A5A 0000 0080 0000 "},
        Piece{"DiskWrite",
              Code16()
                  .store(buffer, 0x6B6B)
                  .ax(0x0301)
                  .bx(buffer)
                  .cx(4)
                  .dx(0x80)
                  .interrupt(0x13)
                  .store(buffer, 0)
                  .ax(0x0201)
                  .interrupt(0x13)
                  .load_bx(buffer),
              "0001 6B6B 0004 0080 0000 "},
        Piece{"DiskExtendedParameters",
              Code16()
                  .store(packet, 0x1A)
                  .si(packet)
                  .ax(0x4800)
                  .dx(0x80)
                  .interrupt(0x13)
                  .load_bx(packet + 16)
                  .load_cx(packet + 18)
                  .load_dx(packet + 24),
              "0000 2000 0000 0200 0000 "},
        Piece{"DiskExtendedParametersShort",
              Code16().store(packet, 0x19).si(packet).ax(0x4800).bx(0).cx(0).dx(0x80).interrupt(0x13),
              "0100 0000 0000 0080 0001 "},
        Piece{"DiskNoDiscStarted", asked(0x4B01, 0xBBBB, 0xCCCC, 0x80).si(packet).interrupt(0x13),
              "0001 BBBB CCCC 0080 0000 "}),
    support::by_name);

INSTANTIATE_TEST_SUITE_P(
    System, BiosService,
    testing::Values(
        Piece{"Equipment", asked().interrupt(0x11).raw({0x25}).word(0x0030), "0020 BBBB CCCC DDDD 0000 "},
        Piece{"LowMemory", asked().interrupt(0x12), "027F BBBB CCCC DDDD 0000 "},
        Piece{"MoveBlock",
              Code16()
                  .store(buffer, 0x7788)
                  .store(packet + 0x10, 0xFFFF)
                  .store(packet + 0x12, buffer)
                  .store(packet + 0x14, 0x9300)
                  .store(packet + 0x16, 0)
                  .store(packet + 0x18, 0xFFFF)
                  .store(packet + 0x1A, buffer + 16)
                  .store(packet + 0x1C, 0x9300)
                  .store(packet + 0x1E, 0)
                  .si(packet)
                  .ax(0x8700)
                  .cx(1)
                  .bx(0)
                  .dx(0)
                  .interrupt(0x15)
                  .load_bx(buffer + 16),
              "0000 7788 0001 0000 0000 "},
        Piece{"A20Off", asked(0x2400).interrupt(0x15).ax(0x2402).interrupt(0x15), "0000 BBBB CCCC DDDD 0000 "},
        Piece{"A20On", asked(0x2401).interrupt(0x15).ax(0x2402).interrupt(0x15), "0001 BBBB CCCC DDDD 0000 "},
        Piece{"A20Ways", asked(0x2403).interrupt(0x15), "0003 0003 CCCC DDDD 0000 "},
        Piece{"Wait", asked(0x8600, 0, 0, 0x1000).interrupt(0x15), "8600 0000 0000 1000 0000 "},
        Piece{"SystemUnknown", asked(0x7700).interrupt(0x15), "8600 BBBB CCCC DDDD 0001 "},
        Piece{"MapFirst",
              Code16()
                  .di(buffer)
                  .wide(0xBA, 0x534D4150)
                  .wide(0xBB, 0)
                  .wide(0xB9, 20)
                  .wide(0xB8, 0xE820)
                  .interrupt(0x15)
                  .load_dx(buffer + 16)
                  .load_ax(buffer + 8),
              "FC00 0001 0014 0001 0000 "},
        Piece{
            "MapWrongWord",
            Code16().di(buffer).wide(0xBA, 0x534D4151).wide(0xBB, 0).wide(0xB9, 20).wide(0xB8, 0xE820).interrupt(0x15),
            "8620 0000 0014 4151 0001 "},
        Piece{
            "MapBehindTheEnd",
            Code16().di(buffer).wide(0xBA, 0x534D4150).wide(0xBB, 99).wide(0xB9, 20).wide(0xB8, 0xE820).interrupt(0x15),
            "8620 0063 0014 4150 0001 "},
        Piece{
            "MapSmallBuffer",
            Code16().di(buffer).wide(0xBA, 0x534D4150).wide(0xBB, 0).wide(0xB9, 19).wide(0xB8, 0xE820).interrupt(0x15),
            "8620 0000 0013 4150 0001 "},
        Piece{"WaitForKeyHook", asked(0x4F1E).interrupt(0x15), "4F1E BBBB CCCC DDDD 0001 "},
        Piece{"SpeedStep", asked(0xE980).interrupt(0x15), "8680 BBBB CCCC DDDD 0001 "},
        Piece{"E8Unknown", asked(0xE855).interrupt(0x15), "8655 BBBB CCCC DDDD 0001 "},
        Piece{"ClockUnknown", asked(0x7700).interrupt(0x1A), "7700 BBBB CCCC DDDD 0001 "}),
    support::by_name);

INSTANTIATE_TEST_SUITE_P(Keys, BiosService,
                         testing::Values(Piece{"KeyShifts", asked(0x0200).interrupt(0x16),
                                               "0200 BBBB CCCC DDDD 0000 "}),
                         support::by_name);

INSTANTIATE_TEST_SUITE_P(
    Video, BiosService,
    testing::Values(Piece{"Mode", asked(0x0F00).interrupt(0x10), "5003 00BB CCCC DDDD 0000 "},
                    Piece{"Vesa", asked(0x4F00).di(buffer).interrupt(0x10), "0100 BBBB CCCC DDDD 0000 "},
                    Piece{"Combination", asked(0x1A00).interrupt(0x10), "1A1A 0008 CCCC DDDD 0000 "},
                    Piece{"Alternate", asked(0x1200, 0x0010).interrupt(0x10), "1200 0003 0000 DDDD 0000 "},
                    Piece{"VideoUnknown", asked(0x7700).interrupt(0x10), "7700 BBBB CCCC DDDD 0000 "},
                    Piece{"Cursor", asked(0x0300, 0).interrupt(0x10).ax(0), "0000 0000 0607 0000 0000 "}),
    support::by_name);

// --- instructions for systems ----------------------------------------------------------------------------------------

Code16 cpu(std::initializer_list<int> bytes) { return Code16().ax(0).bx(0).cx(0).dx(0).raw(bytes); }

INSTANTIATE_TEST_SUITE_P(
    Cpu, BiosService,
    testing::Values(
        // smsw ax
        Piece{"CpuStatusWord", cpu({0x0F, 0x01, 0xE0}), "0010 0000 0000 0000 0000 "},
        // smsw [8000h]; mov ax,[8000h]
        Piece{"CpuStatusWordToMemory", cpu({0x0F, 0x01, 0x26, 0x00, 0x80}).load_ax(buffer),
              "0010 0000 0000 0000 0000 "},
        // mov ax,8; lmsw ax; smsw bx; clts; smsw cx
        Piece{"CpuTaskSwitched",
              cpu({0xB8, 0x08, 0x00, 0x0F, 0x01, 0xF0, 0x0F, 0x01, 0xE3, 0x0F, 0x06, 0x0F, 0x01, 0xE1}),
              "0008 0018 0010 0000 0000 "},
        // mov word [8000h],0Eh; lmsw [8000h]; smsw bx; and the bits again off
        Piece{
            "CpuStatusWordFromMemory",
            Code16()
                .store(buffer, 0x0E)
                .ax(0)
                .cx(0)
                .dx(0)
                .raw({0x0F, 0x01, 0x36, 0x00, 0x80, 0x0F, 0x01, 0xE3, 0x31, 0xC0, 0x0F, 0x01, 0xF0, 0x0F, 0x01, 0xE1}),
            "0000 001E 0010 0000 0000 "},
        // lidt of 3FFh at 0; sidt [8010h]
        Piece{"CpuInterruptTable",
              Code16()
                  .store(buffer, 0x3FF)
                  .store(buffer + 2, 0)
                  .store(buffer + 4, 0)
                  .ax(0)
                  .raw({0x0F, 0x01, 0x1E, 0x00, 0x80, 0x0F, 0x01, 0x0E, 0x10, 0x80})
                  .load_bx(buffer + 16)
                  .load_cx(buffer + 18)
                  .load_dx(buffer + 20),
              "0000 03FF 0000 0000 0000 "},
        // lgdt of 27h at 12345h; sgdt [8010h]
        Piece{"CpuDescriptorTable",
              Code16()
                  .store(buffer, 0x27)
                  .store(buffer + 2, 0x2345)
                  .store(buffer + 4, 0x0001)
                  .ax(0)
                  .raw({0x0F, 0x01, 0x16, 0x00, 0x80, 0x0F, 0x01, 0x06, 0x10, 0x80})
                  .load_bx(buffer + 16)
                  .load_cx(buffer + 18)
                  .load_dx(buffer + 20),
              "0000 0027 2345 0001 0000 "},
        // mov eax,12345678h; mov dr0,eax; xor eax,eax; mov eax,dr0; and its upper half in BX
        Piece{
            "CpuDebugRegister",
            Code16()
                .cx(0)
                .dx(0)
                .wide(0xB8, 0x12345678)
                .raw({0x0F, 0x23, 0xC0, 0x66, 0x31, 0xC0, 0x0F, 0x21, 0xC0, 0x66, 0x89, 0xC3, 0x66, 0xC1, 0xEB, 0x10}),
            "5678 1234 0000 0000 0000 "},
        // the same through cr2, and cr3
        Piece{
            "CpuFaultAddress",
            Code16()
                .cx(0)
                .dx(0)
                .wide(0xB8, 0x12345678)
                .raw({0x0F, 0x22, 0xD0, 0x66, 0x31, 0xC0, 0x0F, 0x20, 0xD0, 0x66, 0x89, 0xC3, 0x66, 0xC1, 0xEB, 0x10}),
            "5678 1234 0000 0000 0000 "},
        Piece{
            "CpuPageDirectory",
            Code16()
                .cx(0)
                .dx(0)
                .wide(0xB8, 0x00123000)
                .raw({0x0F, 0x22, 0xD8, 0x66, 0x31, 0xC0, 0x0F, 0x20, 0xD8, 0x66, 0x89, 0xC3, 0x66, 0xC1, 0xEB, 0x10}),
            "3000 0012 0000 0000 0000 "},
        Piece{"CpuControlFour", cpu({0x0F, 0x20, 0xE0}), "0000 0000 0000 0000 0000 "},
        // invlpg [8000h]; wbinvd
        Piece{"CpuCaches", cpu({0x0F, 0x01, 0x3E, 0x00, 0x80, 0x0F, 0x09}), "0000 0000 0000 0000 0000 "},
        // xor eax,eax; cpuid: whether leaf 1 can be asked for
        Piece{"CpuIdentify",
              cpu({0x66, 0x31, 0xC0, 0x0F, 0xA2, 0x66, 0x83, 0xF8, 0x01, 0x0F, 0x93, 0xC0, 0x98, 0x31, 0xDB, 0x31, 0xC9,
                   0x31, 0xD2}),
              "0001 0000 0000 0000 0000 "}),
    support::by_name);

}  // namespace
