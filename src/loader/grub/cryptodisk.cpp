// SPDX-License-Identifier: MIT
// cryptomount: GRUB opens encrypted volumes when it is told to, and asks for their passphrases (grub-core/disk/
// cryptodisk.c, luks.c, luks2.c of 2.06).
#include <fmt/format.h>
#include <algorithm>
#include <array>

#include <herberge/unlock.hpp>

#include "loader/grub/interpreter.hpp"

namespace herberge::grub {

namespace {

/// What GRUB calls the parts of a cipher's name, and the module that has them.
struct Part {
    std::string_view word, module;
};
constexpr Part ciphers[] = {{"aes", "gcry_rijndael"},      {"serpent", "gcry_serpent"}, {"twofish", "gcry_twofish"},
                            {"camellia", "gcry_camellia"}, {"cast5", "gcry_cast5"},     {"blowfish", "gcry_blowfish"}};
constexpr Part hashes[] = {{"sha1", "gcry_sha1"},
                           {"sha256", "gcry_sha256"},
                           {"sha512", "gcry_sha512"},
                           {"ripemd160", "gcry_rmd160"},
                           {"whirlpool", "gcry_whirlpool"}};

std::string_view module_for(std::span<const Part> parts, std::string_view word) {
    const auto found = std::ranges::find(parts, word, &Part::word);
    return found != parts.end() ? found->module : std::string_view{};
}

bool same_uuid(std::string_view a, std::string_view b) {
    std::string left = lower_text(a);
    std::string right = lower_text(b);
    std::erase(left, '-');
    std::erase(right, '-');
    return left == right;
}

}  // namespace

/// Why this GRUB cannot open `volume` whatever is typed: its own words; none: it can.
std::optional<std::string> Interpreter::refuses_to_open(const Volume& volume) {
    const auto told = describe_luks(*volume.source, false);
    if (!told)
        return told.error().lack() == Lack::Damaged ? std::optional<std::string>("Invalid passphrase.") : std::nullopt;
    const auto at_hand = [&](std::string_view module) {
        return module.empty() || !world_.load_module(module, variable("prefix"), context_.modules);
    };
    const std::string_view cipher = std::string_view(told->cipher).substr(0, told->cipher.find('-'));
    if (!at_hand(module_for(ciphers, cipher))) return fmt::format("Cipher {} isn't available.", cipher);
    // Up to 2.06 no GRUB derives keys by Argon2; what distributions add comes as a module of that name.
    const bool argon2 = context_.modules.loaded.contains("argon2");
    for (const auto& slot : told->slots) {
        if (slot.derivation.starts_with("argon2") && !argon2) continue;
        const auto dash = slot.derivation.find('-');
        const std::string_view hash =
            dash == std::string::npos ? std::string_view{} : std::string_view(slot.derivation).substr(dash + 1);
        if (!at_hand(module_for(hashes, hash))) continue;
        return std::nullopt;
    }
    return "Invalid passphrase.";
}

int Interpreter::cmd_cryptomount(const Arguments& a, const Command& /*c*/) {
    std::string uuid;
    bool all = false;
    std::string name;
    for (std::size_t i = 1; i < a.size(); ++i) {
        if (a[i] == "-u" || a[i] == "--uuid") {
            if (i + 1 < a.size()) uuid = a[++i];
        } else if (a[i].starts_with("--uuid=")) uuid = a[i].substr(7);
        else if (a[i] == "-a" || a[i] == "--all" || a[i] == "-b" || a[i] == "--boot") all = true;
        else if (!a[i].starts_with("-")) name = a[i];
    }
    if (name.starts_with('(') && name.ends_with(')')) name = name.substr(1, name.size() - 2);
    if (uuid.empty() && name.empty() && !all) return error("no device name.");
    VolumeRef named;
    if (!name.empty()) {
        const auto device = world_.device(name, context_.modules);
        if (!device) return error(fmt::format("disk `{}' not found.", name));
        named = world_.volume_of(*device);
    }
    bool any = false;
    int status = 0;
    std::vector<VolumeRef> candidates;
    world_.machine().each_volume(Observer::Grub, [&](const Volume& volume) {
        if (volume.info.is(Family::Luks)) candidates.push_back(volume.shared_from_this());
    });
    for (const auto& volume : candidates) {
        const bool wanted = all || volume == named || (!uuid.empty() && same_uuid(volume->info.uuid, uuid));
        if (!wanted || !world_.reads_encrypted(*volume, context_.modules)) continue;
        any = true;
        if (context_.modules.asked.contains(volume)) continue;
        if (context_.echoes.size() < 400)
            context_.echoes.push_back(
                {fmt::format("Enter passphrase for {} ({}):", world_.name_of(*volume), volume->info.uuid), file_,
                 line_});
        if (const auto why = refuses_to_open(*volume)) status = error(*why);
        else context_.modules.asked.insert(volume);
    }
    // A device that is something else is no error of its own; a UUID that nothing has is.
    if (!any && !all) return error("no such cryptodisk found.");
    return status;
}

}  // namespace herberge::grub
