// SPDX-License-Identifier: MIT
#include "remedy/seen_numbers.hpp"

#include <algorithm>
#include <array>
#include <charconv>
#include <optional>

#include "remedy/words.hpp"

namespace herberge::remedy {

namespace {

std::optional<std::uint64_t> number(std::string_view digits, int base) {
    std::uint64_t out = 0;
    const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), out, base);
    if (error != std::errc{} || end != digits.data() + digits.size() || digits.empty()) return std::nullopt;
    return out;
}

/// "Error" in the languages in which people meet it.
bool says_error(std::string_view word) {
    static constexpr std::string_view words[] = {"error", "erreur", "errore", "erro",  "fehler", "fout", "fel",
                                                 "feil",  "fejl",   "virhe",  "chyba", "hata",   "błąd", "hiba"};
    return std::ranges::find(words, word) != std::end(words);
}
bool says_stop(std::string_view word) {
    static constexpr std::string_view words[] = {"stop", "stopcode", "stopp", "bugcheck", "stillstandcode", "arrêt"};
    return std::ranges::find(words, word) != std::end(words);
}

struct Line {
    const std::string& plain;
    const std::vector<std::string>& words;
    std::vector<SeenNumber>& out;

    void add(NumberKind kind, std::uint64_t value, std::string written) const {
        const bool there = std::ranges::any_of(
            out, [&](const SeenNumber& other) { return other.kind == kind && other.value == value; });
        if (!there) out.push_back({std::move(written), kind, value, find_number(kind, value)});
    }

    void hexadecimal() const {
        const bool stop = std::ranges::any_of(words, says_stop);
        const bool efi = plain.find("security violation") != std::string::npos ||
                         plain.find("bdsdxe") != std::string::npos || plain.find("efi") != std::string::npos;
        for (const auto& word : words) {
            if (word.front() != '#') continue;
            const auto value = number(std::string_view(word).substr(1), 16);
            if (!value) continue;
            const std::string written = "0x" + word.substr(1);
            if (*value >> 28U == 0xC) add(NumberKind::NtStatus, *value, written);
            else if (*value >> 60U == 8) add(NumberKind::EfiStatus, *value & 0xFFFFFFFU, written);
            else if (efi && *value < 0x100) add(NumberKind::EfiStatus, *value, written);
            else if (const bool known = find_number(NumberKind::StopCode, *value) != nullptr;
                     (stop && (known || (*value != 0 && *value < 0x1000))) || (known && written_whole(word)))
                add(NumberKind::StopCode, *value, written);
        }
    }
    /// With all eight digits, as blue screens write it.
    [[nodiscard]] bool written_whole(const std::string& word) const {
        return plain.find("0x" + std::string(8 - std::min<std::size_t>(8, word.size() - 1), '0') + word.substr(1)) !=
               std::string::npos;
    }

    /// "stop 7b", "stop code: 7b"
    void stop_code() const {
        for (std::size_t i = 0; i + 1 < words.size(); ++i) {
            if (!says_stop(words[i])) continue;
            const auto& next = words[i + 1] == "code" && i + 2 < words.size() ? words[i + 2] : words[i + 1];
            if (next.size() > 3) continue;
            if (const auto value = number(next, 16); value && find_number(NumberKind::StopCode, *value) != nullptr)
                add(NumberKind::StopCode, *value, next);
        }
    }

    void loaders() const {
        for (std::size_t i = 0; i + 1 < words.size(); ++i)
            if (says_error(words[i]) && words[i + 1].size() <= 2)
                if (const auto value = number(words[i + 1], 10); value &&
                                                                 plain.find('-' + words[i + 1]) == std::string::npos &&
                                                                 find_number(NumberKind::GrubLegacy, *value) != nullptr)
                    add(NumberKind::GrubLegacy, *value, words[i + 1]);
        // LILO: its letters so far, then two digits for each try.
        static constexpr std::array<std::string_view, 3> letters = {"l", "li", "lil"};
        if (words.size() >= 2 && std::ranges::find(letters, words[0]) != letters.end() && words[1].size() == 2)
            if (const auto value = number(words[1], 16)) add(NumberKind::BiosDisk, *value, words[1]);
    }

    void kernel() const {
        for (auto at = plain.find('-'); at != std::string::npos; at = plain.find('-', at + 1)) {
            auto end = at + 1;
            while (end < plain.size() && plain[end] >= '0' && plain[end] <= '9') ++end;
            const bool starts = at == 0 || plain[at - 1] == ' ' || plain[at - 1] == '(' || plain[at - 1] == ':';
            const bool stops = end == plain.size() || (plain[end] != '.' && plain[end] != '-');
            if (!starts || !stops || end - at > 4) continue;
            if (const auto value = number(std::string_view(plain).substr(at + 1, end - at - 1), 10);
                value && find_number(NumberKind::LinuxErrno, *value) != nullptr)
                add(NumberKind::LinuxErrno, *value, plain.substr(at, end - at));
        }
    }

    /// Published names, with '_' or with blanks. UEFI's without their beginning, where firmware speaks.
    void names() const {
        const bool firmware = plain.find("bdsdxe") != std::string::npos ||
                              plain.find("start_image") != std::string::npos ||
                              plain.find("load image") != std::string::npos || plain.find("efi") != std::string::npos;
        for (const auto& row : known_numbers()) {
            if (row.name.empty() || row.kind == NumberKind::LinuxErrno) continue;
            auto name = words_of(plain_line(row.name));
            if (row.kind == NumberKind::EfiStatus && firmware) name.erase(name.begin());
            // A single word would be found where nobody means the number; only this one is the firmware's own.
            if (name.size() < 2 && name.front() != "unsupported") continue;
            if (std::search(words.begin(), words.end(), name.begin(), name.end()) != words.end())
                add(row.kind, row.value, std::string(row.name));
        }
    }
};

}  // namespace

void find_numbers(const std::string& plain, const std::vector<std::string>& words, std::vector<SeenNumber>& out) {
    if (words.empty() || out.size() > 64) return;
    const Line line{plain, words, out};
    line.hexadecimal();
    line.stop_code();
    line.loaders();
    line.kernel();
    line.names();
}

}  // namespace herberge::remedy
