// SPDX-License-Identifier: MIT
// What a text from a screen is taken for: its words, how well two lines fit each other, and the numbers in it.
#include <fmt/format.h>
#include <cmath>

#include "remedy/seen_numbers.hpp"
#include "remedy/words.hpp"
#include "support.hpp"

using namespace herberge;
using remedy::fit_of;
using remedy::plain_line;
using remedy::words_of;
using Words = std::vector<std::string>;

namespace {

TEST(PlainLine, HasNoColoursCapitalsOrBlanksAtItsEnds) {
    const std::pair<std::string, std::string> rows[] = {
        {"  Error:\t15  ", "error: 15"},
        {"\x1B[1;31mSTOP\x1B[0m now", "stop now"},
        {"a\x1B[2Jb", "ab"},
        {"a\x1B[12@b", "ab"},   // the first letter that ends an order …
        {"a\x1B[12~b", "ab"},   // … and the last
        {"a\x1B[12;?5b", "a"},  // which may be the text's own
        {"a\x1B[12", "a"},      // cut off
        {"a\x1B", "a"},         // cut off at once
        {"a\x1B=b", "a=b"},     // another order of one character: its letter stays
        {"a\x7F\x01\r\nb", "a b"},
        {"Größe AZ[az", "größe az[az"},
        {"", ""},
        {" \t ", ""},
    };
    for (const auto& [line, plain] : rows) EXPECT_EQ(plain_line(line), plain) << line;
}

TEST(WordsOf, AreLettersAndNumbersEachWrittenOneWay) {
    const std::pair<std::string, Words> rows[] = {
        {"error: no such device", {"error", "no", "such", "device"}},
        {"0xc000000f", {"#c000000f"}},
        {"c000000f", {"#c000000f"}},
        {"0000007b", {"#7b"}},
        {"800000000000000e", {"#800000000000000e"}},
        {"0x7b 0x0 0x000 00000000", {"#7b", "#0", "#0", "#0"}},
        // Seven or nine digits are no such number, nor is a word with other letters.
        {"c00000f c0000000f", {"c00000f", "c0000000f"}},
        {"0x 0xg1 deadbeeg", {"0x", "0xg1", "deadbeeg"}},
        {"grub> grub rescue>", {"grub>", "grub", "rescue>"}},
        {"a > b", {"a", "b"}},
        {"file…gone …x…", {"file", "gone", "x"}},
        {"fähre arrêt", {"fähre", "arrêt"}},
        {"-- !! --", {}},
        {"unknown-block(0,0)", {"unknown", "block", "0", "0"}},
    };
    for (const auto& [line, words] : rows) EXPECT_EQ(words_of(line), words) << line;
}

TEST(WordWeights, RareWordsTellMore) {
    remedy::WordWeights weights;
    weights.count({"error", "no", "no", "device"});
    weights.count({"error", "kernel"});
    weights.count({"error"});
    EXPECT_DOUBLE_EQ(weights.of("error"), 0.3 + std::log(4.0 / 3));
    EXPECT_DOUBLE_EQ(weights.of("no"), 0.3 + std::log(4.0)) << "a line counts a word once";
    EXPECT_DOUBLE_EQ(weights.of("device"), weights.of("kernel"));
    // No screen has these: what differs from machine to machine tells little.
    EXPECT_DOUBLE_EQ(weights.of("almhof"), 0.8);
    EXPECT_DOUBLE_EQ(weights.of("vmlinuz6"), 0.1);
    EXPECT_DOUBLE_EQ(weights.of("#c000000f"), 0.1);
}

/// With words that no screen has, each weighs 0.8 (0.1 with a digit), so that the sums can be done by hand.
TEST(FitOf, IsTheShareOfWordsInTheSameOrder) {
    const remedy::WordWeights none;
    const struct {
        Words line, screen;
        double fit;
    } rows[] = {
        {{"alpha", "bravo"}, {"alpha", "bravo"}, 1},
        {{}, {"alpha"}, 0},
        {{"alpha"}, {}, 0},
        {{"alpha"}, {"bravo"}, 0},
        // Half of the screen, all of the line; and the reverse.
        {{"alpha"}, {"alpha", "bravo"}, 0.65 + 0.35 * 0.5},
        {{"alpha", "bravo"}, {"alpha"}, 0.65 + 0.35 * 0.5},
        // The other way round only one of them is in order.
        {{"bravo", "alpha"}, {"alpha", "bravo"}, 0.5 * (0.65 + 0.35 * 0.5)},
        {{"alpha", "delta", "bravo"}, {"alpha", "bravo"}, 0.65 + 0.35 * 2 / 3},
        // One letter replaced, left out, put in: four fifths of the word. Two letters: none of it.
        {{"alphx"}, {"alpha"}, 0.8 * (0.65 + 0.35 * 0.8)},
        {{"xlpha"}, {"alpha"}, 0.8 * (0.65 + 0.35 * 0.8)},
        {{"device"}, {"devices"}, 0.8 * (0.65 + 0.35 * 0.8)},
        {{"devicxe"}, {"device"}, 0.8 * (0.65 + 0.35 * 0.8)},
        {{"alpxx"}, {"alpha"}, 0},
        {{"lphaa"}, {"alpha"}, 0},
        {{"devices"}, {"devic"}, 0},
        // Not in short words, nor in numbers of either kind.
        {{"alph"}, {"alpx"}, 0},
        {{"alph"}, {"alpha"}, 0},
        {{"12345"}, {"12346"}, 0},
        {{"#c000000f"}, {"#c000000e"}, 0},
        {{"c000000"}, {"#c000000"}, 0},
        // A number of two digits and more tells by itself; one of one digit does not.
        {{"alpha", "#7b"}, {"bravo", "delta", "#7b"}, 0.8},
        {{"alpha", "#7"}, {"bravo", "#7"}, 0.1 / 0.9 * (0.65 + 0.35 * 0.1 / 0.9)},
    };
    for (const auto& row : rows)
        EXPECT_NEAR(fit_of(row.line, row.screen, none), row.fit, 1e-12)
            << fmt::format("{} | {}", fmt::join(row.line, " "), fmt::join(row.screen, " "));
}

/// "stop code 7b as written, known" for each number of a text.
Words numbers(const std::string& text) {
    const auto plain = plain_line(text);
    std::vector<SeenNumber> found;
    remedy::find_numbers(plain, words_of(plain), found);
    Words out;
    for (const auto& one : found)
        out.push_back(fmt::format("{} {:x} {}{}", number_kind_name(one.kind), one.value, one.written,
                                  one.known != nullptr ? "" : ", not known"));
    return out;
}

TEST(FindNumbers, EachByWhatStandsAroundIt) {
    const std::pair<std::string, Words> rows[] = {
        {"Status: 0xc000000f", {"NTSTATUS c000000f 0xc000000f"}},
        {"C000000F", {"NTSTATUS c000000f 0xc000000f"}},
        {"0xC0001234", {"NTSTATUS c0001234 0xc0001234, not known"}},
        {"0xcfffffff", {"NTSTATUS cfffffff 0xcfffffff, not known"}},
        {"0xbfffffff 0xd0000000", {}},
        {"0x800000000000000E", {"EFI status e 0x800000000000000e"}},
        {"0x9000000000000000", {}},
        {"efi error 0x1a", {"EFI status 1a 0x1a"}},
        {"efi error 0xff 0x100", {"EFI status ff 0xff, not known"}},
        {"error 0x1a", {}},
        // Blue screens: with their word any of their size, without it those that are written as they write them.
        {"*** STOP: 0x0000007B (0x1, 0x2)",
         {"stop code 7b 0x7b", "stop code 1 0x1, not known", "stop code 2 0x2, not known"}},
        {"0x0000007B", {"stop code 7b 0x7b"}},
        {"0x7B", {}},
        {"stop 0xfff", {"stop code fff 0xfff, not known"}},
        {"stop 0x1000", {}},
        {"stop 0x0", {}},
        {"stop 7b", {"stop code 7b 7b"}},
        {"stop code: 7b", {"stop code 7b 7b"}},
        {"stop code", {}},
        {"stop 07b", {"stop code 7b 07b"}},
        {"stop 007b", {}},
        {"stop 999", {}},
        {"stop here", {}},
        {"please stop", {}},
        // GRUB Legacy's errors, in the languages in which people tell of them.
        {"Error 15: File not found", {"GRUB Legacy error f 15"}},
        {"Fehler 17", {"GRUB Legacy error 11 17"}},
        {"error 115", {}},
        {"error 99", {}},
        {"error", {}},
        {"mistake 15", {}},
        // LILO's letters and the disk's answer.
        {"LI 04", {"BIOS disk status 4 04"}},
        {"L 40 40", {"BIOS disk status 40 40"}},
        {"LIL 01", {"BIOS disk status 1 01"}},
        {"LILO 04", {}},
        {"LI 4", {}},
        {"LI zz", {}},
        // Linux' own, below zero.
        {"mount failed with error -22", {"Linux error 16 -22"}},
        {"failed (-2)", {"Linux error 2 -2"}},
        {"failed:-2", {"Linux error 2 -2"}},
        {"-2", {"Linux error 2 -2"}},
        {"error x-2", {}},
        {"error -2.5", {}},
        {"2024-2-2", {}},
        {"error -999", {}},
        {"error -1222", {}},
        {"error -", {}},
        {"error -2 and -2, -5", {"Linux error 2 -2", "Linux error 5 -5"}},
        // Names that were published.
        {"INACCESSIBLE_BOOT_DEVICE", {"stop code 7b INACCESSIBLE_BOOT_DEVICE"}},
        {"inaccessible boot device", {"stop code 7b INACCESSIBLE_BOOT_DEVICE"}},
        {"inaccessible device", {}},
        {"EFI_SECURITY_VIOLATION", {"EFI status 1a EFI_SECURITY_VIOLATION"}},
        {"BdsDxe: failed to load: Security Violation", {"EFI status 1a EFI_SECURITY_VIOLATION"}},
        {"security violation", {}},
        {"start_image() returned Not Found", {"EFI status e EFI_NOT_FOUND"}},
        {"Load image failed: Access Denied", {"EFI status f EFI_ACCESS_DENIED"}},
        {"BdsDxe: Unsupported", {"EFI status 3 EFI_UNSUPPORTED"}},
        {"BdsDxe: Aborted", {}},
        {"not found", {}},
        {"", {}},
    };
    for (const auto& [text, expected] : rows) EXPECT_EQ(numbers(text), expected) << text;
}

TEST(FindNumbers, NotWithoutEnd) {
    std::vector<SeenNumber> found;
    const std::string line = "0xc000000f";
    found.resize(65);
    remedy::find_numbers(line, words_of(line), found);
    EXPECT_EQ(found.size(), 65U);
    found.resize(64);
    remedy::find_numbers(line, words_of(line), found);
    EXPECT_EQ(found.size(), 65U);
}

}  // namespace
