// SPDX-License-Identifier: MIT
#include "system/crypttab.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <sstream>

#include <herberge/unlock.hpp>

#include "bytes/listed.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_lines = 200;

void resolve_source(const Machine& machine, CryptLine& line) {
    auto found = resolve_device(machine, line.source);
    line.volume = std::move(found.volume);
    line.cannot_tell = found.cannot_tell || found.depends_on_hardware;
    using Kind = RootReference::Kind;
    line.by_mark = found.kind == Kind::Uuid || found.kind == Kind::Label || found.kind == Kind::PartUuid ||
                   found.kind == Kind::PartLabel;
}

std::vector<std::string> words_of(std::string_view line) {
    std::vector<std::string> out;
    std::istringstream in{std::string(line)};
    for (std::string word; out.size() < 4 && in >> word;) out.push_back(word);
    return out;
}

/// "target=NAME,source=UUID=…,key=none,…": older RAM disks of Debian, and its argument cryptopts=.
CryptLine parse_listed(const Machine& machine, std::string_view text, std::string where) {
    CryptLine out;
    out.where = std::move(where);
    any_listed(text, [&](std::string_view one) {
        for (const auto& [option, field] :
             {std::pair<std::string_view, std::string CryptLine::*>{"target=", &CryptLine::name},
              {"source=", &CryptLine::source},
              {"key=", &CryptLine::key}})
            if (one.starts_with(option)) out.*field = std::string(one.substr(option.size()));
        return false;
    });
    if (out.key == "none") out.key.clear();
    resolve_source(machine, out);
    return out;
}

void from_arguments(const Machine& machine, const CommandLine& arguments, std::vector<CryptLine>& out) {
    const auto add = [&](std::string name, std::string source, const std::string& word) {
        CryptLine line;
        line.name = std::move(name);
        line.source = std::move(source);
        line.where = fmt::format("the command line's {}", word);
        resolve_source(machine, line);
        out.push_back(std::move(line));
    };
    std::string alpine_source, alpine_name, alpine_word;
    for (const auto& word : arguments.words()) {
        const auto equals = word.find('=');
        if (equals == std::string::npos || out.size() >= most_lines) continue;
        std::string option = word.substr(0, equals);
        const std::string value = word.substr(equals + 1);
        if (option.starts_with("rd.luks.")) option.erase(0, 3);
        if (option == "luks.name") {
            const auto name = value.find('=');
            if (name != std::string::npos) add(value.substr(name + 1), "UUID=" + value.substr(0, name), word);
        } else if (option == "luks.uuid" || option == "rd_LUKS_UUID") {
            const std::string uuid = value.starts_with("luks-") ? value.substr(5) : value;
            add("luks-" + uuid, "UUID=" + uuid, word);
        } else if (option == "cryptdevice") {
            const auto colon = value.rfind(':', value.find(':', value.starts_with("/") ? 1 : 0));
            if (colon == std::string::npos) continue;
            auto name = value.substr(colon + 1);
            name.resize(std::min(name.find(':'), name.size()));
            add(name, value.substr(0, colon), word);
        } else if (option == "cryptopts") {
            out.push_back(parse_listed(machine, value, fmt::format("the command line's {}", word)));
        } else if (option == "cryptroot") {
            alpine_source = value;
            alpine_word = word;
        } else if (option == "cryptdm") {
            alpine_name = value;
        }
    }
    if (!alpine_source.empty() && !alpine_name.empty()) add(alpine_name, alpine_source, alpine_word);
}

}  // namespace

std::vector<CryptLine> parse_crypttab(const Machine& machine, std::string_view text, std::string_view where) {
    std::vector<CryptLine> out;
    int number = 0;
    while (!text.empty() && out.size() < most_lines) {
        const auto end = std::min(text.find('\n'), text.size());
        const auto words = words_of(text.substr(0, end));
        text.remove_prefix(std::min(end + 1, text.size()));
        ++number;
        if (words.size() < 2 || words[0].starts_with('#')) continue;
        CryptLine line;
        line.name = words[0];
        line.source = words[1];
        if (words.size() > 2 && words[2] != "none" && words[2] != "-") line.key = words[2];
        if (words.size() > 3) line.options = words[3];
        line.where = fmt::format("{}, line {}", where, number);
        resolve_source(machine, line);
        out.push_back(std::move(line));
    }
    return out;
}

std::vector<CryptLine> opened_at_start(const Machine& machine, const Ramdisk* ramdisk, const CommandLine& arguments) {
    std::vector<CryptLine> out;
    from_arguments(machine, arguments, out);
    if (ramdisk == nullptr) return out;
    for (const std::string_view path : {"cryptroot/crypttab", "etc/crypttab"})
        if (const auto* file = ramdisk->find(path))
            for (auto& line : parse_crypttab(machine, file->content, fmt::format("RAM disk:/{}", path)))
                out.push_back(std::move(line));
    if (const auto* file = ramdisk->find("conf/conf.d/cryptroot"))
        for (std::string_view rest = file->content; !rest.empty() && out.size() < most_lines;) {
            const auto end = std::min(rest.find('\n'), rest.size());
            if (end > 0) out.push_back(parse_listed(machine, rest.substr(0, end), "RAM disk:/conf/conf.d/cryptroot"));
            rest.remove_prefix(std::min(end + 1, rest.size()));
        }
    return out;
}

VolumeRef by_crypt_name(const Machine& machine, std::string_view name, const Ramdisk* ramdisk,
                        const CommandLine& arguments) {
    VolumeRef found;
    const auto look = [&](const std::vector<CryptLine>& lines) {
        for (const auto& line : lines)
            if (found == nullptr && line.name == name) found = line.volume;
    };
    look(opened_at_start(machine, ramdisk, arguments));
    if (found == nullptr)
        machine.each_volume(Observer::Linux, [&](const Volume& volume) {
            const auto* fs = volume.files(Observer::Linux);
            if (fs == nullptr || found != nullptr) return;
            if (const auto text = read_text_file(*fs, "/etc/crypttab"))
                look(parse_crypttab(machine, *text, volume.place + ":/etc/crypttab"));
        });
    if (found == nullptr || found->info.content() != Content::Encrypted) return nullptr;
    const auto inside = std::ranges::find_if(machine.layered, [&](const VolumeRef& v) {
        return v->kind == NodeKind::Unlocked && !v->made_of.empty() && v->made_of.front() == found;
    });
    return inside != machine.layered.end() ? *inside : found;
}

void follow_crypt_name(const Machine& machine, RootReference& reference, const Ramdisk* ramdisk,
                       const CommandLine& arguments) {
    constexpr std::string_view mapper = "/dev/mapper/";
    if (reference.volume != nullptr || !reference.written.starts_with(mapper)) return;
    reference.volume =
        by_crypt_name(machine, std::string_view(reference.written).substr(mapper.size()), ramdisk, arguments);
    if (reference.volume != nullptr) reference.cannot_tell = false;
}

std::string why_not_opened(const Machine& machine, std::string_view device, const Ramdisk* ramdisk,
                           const CommandLine& arguments) {
    constexpr std::string_view mapper = "/dev/mapper/";
    if (!device.starts_with(mapper)) return {};
    for (const auto& line : opened_at_start(machine, ramdisk, arguments))
        if (line.name == device.substr(mapper.size()) && line.volume == nullptr && !line.cannot_tell)
            return fmt::format("; {} makes it from {}, which is not there", line.where, line.source);
    return {};
}

bool is_made_anew(const CryptLine& line) {
    return line.key == "/dev/urandom" || line.key == "/dev/random" || line.key == "/dev/hwrng" ||
           any_listed(line.options, [](std::string_view option) {
               return option == "swap" || option == "tmp" || option.starts_with("tmp=");
           });
}

namespace {

/// Header and key slots of an encrypted volume: whether it could be opened by who knows the passphrase.
Claim judge_encrypted(const Volume& volume) {
    Claim out;
    out.stage = Stage::Root;
    if (!volume.info.is(Family::Luks)) return out;
    const auto told = describe_luks(*volume.source);
    if (!told) {
        switch (told.error().lack()) {
            case Lack::Damaged:
                out.break_with(make_finding(
                    Code::LuksHeaderDamaged,
                    fmt::format("the header of the encrypted {} cannot be used: {}", volume.place, told.error().what),
                    {evidence_error(told.error())},
                    fmt::format("Device {} is not a valid LUKS device.", volume.place)));
                return out;
            case Lack::Absent:
            case Lack::Unreadable:
            case Lack::Unsupported:
            case Lack::Exhausted: out.text = told.error().what; return out;
        }
    }
    out.findings = told->findings;
    if (told->beyond) {
        out.text = told->beyond->what;
        return out;
    }
    const auto seen = [&](const KeySlot& slot) {
        return slot.overwritten ? evidence_bytes(*volume.source, *slot.overwritten, 512, "bytes that look random")
                                : evidence_error(*slot.problem);
    };
    std::vector<const KeySlot*> lost;
    for (const auto& slot : told->slots)
        if (slot.problem && slot.problem->lack() == Lack::Damaged) lost.push_back(&slot);
    if (lost.size() == told->slots.size()) {
        std::vector<Evidence> evidence;
        evidence.reserve(lost.size() + 1);
        for (const auto* slot : lost) evidence.push_back(seen(*slot));
        if (evidence.empty()) evidence.push_back(evidence_place(volume.place, "a key slot in use", "none"));
        out.break_with(make_finding(
            Code::LuksNoKeySlot,
            lost.empty()
                ? fmt::format("no key slot of the encrypted {} is in use: no passphrase opens it", volume.place)
                : fmt::format("no key slot of the encrypted {} can be opened any more: {}", volume.place,
                              lost.front()->problem->what),
            std::move(evidence), "No key available with this passphrase."));
        return out;
    }
    for (const auto* slot : lost)
        out.findings.push_back(make_finding(
            Code::LuksKeySlotDamaged,
            fmt::format("{}: its passphrase no longer opens {}", slot->problem->what, volume.place), {seen(*slot)}));
    out.state = State::Holds;
    return out;
}

/// The encrypted volumes that `volume` lies in.
void collect_around(const VolumeRef& volume, std::vector<VolumeRef>& out, int depth) {
    constexpr int most_depth = 8;
    if (volume == nullptr || depth > most_depth) return;
    if (volume->info.content() == Content::Encrypted && std::ranges::find(out, volume) == out.end())
        out.push_back(volume);
    for (const auto& member : volume->made_of) collect_around(member, out, depth + 1);
}

/// Nothing at the start names this volume. Debian's scripts open what their table lists, and nothing else; others, or
/// somebody's own beside them, may go by rules that are not followed here.
Claim judge_not_named(const Volume& volume, const Ramdisk& ramdisk, const std::vector<CryptLine>& lines) {
    Claim out;
    out.stage = Stage::Root;
    std::vector<std::string> others;
    others.reserve(lines.size());
    for (const auto& line : lines) others.push_back(fmt::format("{} ({})", line.source, line.where));
    const std::string what =
        fmt::format("neither the RAM disk nor the command line names the encrypted {} (UUID {}){}", volume.place,
                    volume.info.uuid, others.empty() ? "" : fmt::format(", but {}", fmt::join(others, ", ")));
    if (ramdisk.find("cryptroot/crypttab") != nullptr) {
        out.break_with(
            make_finding(Code::RootNotOpened, what,
                         {evidence_place("RAM disk:/cryptroot/crypttab", "UUID=" + volume.info.uuid,
                                         others.empty() ? "no line" : fmt::format("{}", fmt::join(others, ", "))),
                          evidence_place(volume.place)}));
        return out;
    }
    out.text = what + "; whether it is opened all the same is not followed";
    return out;
}

/// The encrypted volumes, when what is not seen can lie in nothing else.
std::vector<VolumeRef> only_hiding_places(const Machine& machine) {
    std::vector<VolumeRef> out;
    machine.each_volume(Observer::Linux, [&](const Volume& volume) {
        if (is_locked(machine, volume)) out.push_back(volume.shared_from_this());
    });
    const auto places = machine.places_of([&](const Volume& volume) {
        return std::ranges::find(out, &volume, [](const VolumeRef& v) { return v.get(); }) != out.end();
    });
    if (places != machine.hiding_places()) out.clear();
    return out;
}

}  // namespace

Claim judge_unlocking(const Machine& machine, const RootReference& root, const Ramdisk* ramdisk,
                      const CommandLine& arguments) {
    Claim out;
    out.stage = Stage::Root;
    out.state = State::Holds;
    const auto lines = opened_at_start(machine, ramdisk, arguments);
    std::vector<VolumeRef> volumes;
    collect_around(root.volume, volumes, 0);
    bool nothing_opens = false;
    const bool hidden = root.volume == nullptr && root.cannot_tell;
    if (hidden) {
        for (const auto& line : lines) collect_around(line.volume, volumes, 0);
        nothing_opens = volumes.empty();
        if (nothing_opens) volumes = only_hiding_places(machine);
    }
    for (const auto& volume : volumes) {
        const bool named = std::ranges::any_of(lines, [&](const CryptLine& line) {
            return line.volume == volume || (line.cannot_tell && !(nothing_opens && line.by_mark));
        });
        if (!named && ramdisk != nullptr) {
            auto claim = judge_not_named(*volume, *ramdisk, lines);
            if (claim.state == State::Breaks) return claim;
            out.state = State::Unknown;
            out.text = claim.text;
        }
        auto claim = judge_encrypted(*volume);
        if (claim.state == State::Breaks) return claim;
        out.findings.insert(out.findings.end(), claim.findings.begin(), claim.findings.end());
    }
    return out;
}

}  // namespace herberge
