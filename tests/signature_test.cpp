// SPDX-License-Identifier: MIT
// Who vouches for an image, and since when: chains, revocation with and without a time, time stamps, catalogues.
#include <algorithm>

#include "forge/sign.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

constexpr const char* certificates_by_sha256 = "3bd2a492-96c0-4079-b420-fcf98ef103ed";

/// Keys of a house, of its clock, and of somebody else; making them takes a while.
struct Keys {
    forge::SigningKey house{"Almhof house"};
    forge::SigningKey between{"Almhof intermediate", &house};
    forge::SigningKey leaf{"Almhof leaf", &between};
    forge::SigningKey clock{"Almhof clock"};
    forge::SigningKey stranger{"Almhof stranger"};
};
const Keys& keys() {
    static const Keys all;
    return all;
}

const Bytes& plain_image() {
    static const Bytes image = forge::make_efi_application({{".room", forge::noise(900, 7)}});
    return image;
}

ImageTrust allowing(const forge::SigningKey& key) {
    ImageTrust out;
    out.by = "the firmware";
    out.allowed.certificates.push_back(key.certificate());
    return out;
}

Bytes revocation(const forge::SigningKey& key, const Bytes& time) {
    Bytes entry = key.signed_part_digest();
    entry.insert(entry.end(), time.begin(), time.end());
    return forge::make_signature_list(certificates_by_sha256, {entry});
}

std::string why(const ImageTrust& trust, const Bytes& image) {
    return trust.refuse(*support::source_of(image)).value_or("runs");
}

/// A table of certificates that leaves the file is none (PE format, "The Attribute Certificate Table").
TEST(Signatures, ATableThatLeavesTheFileHasNone) {
    const forge::SigningKey key("Almhof night watch");
    const auto image = key.sign(forge::make_efi_application());
    const auto pe = inspect_pe(*support::source_of(image));
    ASSERT_TRUE(pe);
    ASSERT_EQ(pe->certificates_offset + pe->certificates_size, image.size());
    EXPECT_EQ(image_signatures(*support::source_of(image)).size(), 1U);
    EXPECT_TRUE(image_signatures(*support::source_of(support::Bytes(image.begin(), image.end() - 1))).empty());
    auto longer = image;
    longer.push_back(0);
    EXPECT_EQ(image_signatures(*support::source_of(longer)).size(), 1U) << "what lies behind it is not its own";
    EXPECT_TRUE(image_signatures(*support::source_of(forge::make_efi_application())).empty());
}

TEST(Chains, AnIssuerInTheDatabaseIsEnough) {
    const Bytes image = keys().leaf.sign(plain_image());
    EXPECT_EQ(why(allowing(keys().house), image), "runs");
    EXPECT_EQ(why(allowing(keys().between), image), "runs") << "the chain may end anywhere";
    EXPECT_NE(why(allowing(keys().stranger), image), "runs");
    const auto signatures = image_signatures(*support::source_of(image));
    ASSERT_EQ(signatures.size(), 1U);
    EXPECT_EQ(signatures.front().chain.front().subject, "CN = Almhof leaf") << "the signer's certificate first";
    EXPECT_EQ(signatures.front().chain.size(), 3U);
    EXPECT_EQ(signatures.front().root, "CN = Almhof house");
    EXPECT_FALSE(signatures.front().time);
}

TEST(Chains, ADigestRevokesTheSignerAndTheRootButNothingBetween) {
    const Bytes image = keys().leaf.sign(plain_image());
    for (const auto& [key, runs] : std::vector<std::pair<const forge::SigningKey*, bool>>{
             {&keys().leaf, false}, {&keys().between, true}, {&keys().house, false}, {&keys().stranger, true}}) {
        auto trust = allowing(keys().house);
        trust.denied = parse_signature_lists(revocation(*key, Bytes(16)));
        ASSERT_EQ(trust.denied.revoked.size(), 1U);
        EXPECT_FALSE(trust.denied.revoked.front().from);
        EXPECT_EQ(why(trust, image) == "runs", runs);
    }
    // Of two that allow it, the first one in the database decides.
    for (const bool revoked_first : {true, false}) {
        auto two = allowing(revoked_first ? keys().house : keys().between);
        two.allowed.certificates.push_back((revoked_first ? keys().between : keys().house).certificate());
        two.denied = parse_signature_lists(revocation(keys().house, Bytes(16)));
        EXPECT_EQ(why(two, image) == "runs", !revoked_first);
    }
    // A whole certificate denies whatever it leads to.
    auto denied = allowing(keys().house);
    denied.denied.certificates.push_back(keys().between.certificate());
    EXPECT_EQ(why(denied, image), "its signer is on the deny list (dbx)");
}

TEST(RevocationTimes, OnlyAWitnessedEarlierTimeSpares) {
    auto trust = allowing(keys().house);
    trust.denied = parse_signature_lists(revocation(keys().house, forge::efi_time(2025, 7, 1)));
    ASSERT_EQ(trust.denied.revoked.size(), 1U);
    ASSERT_TRUE(trust.denied.revoked.front().from);
    EXPECT_EQ(utc_text(*trust.denied.revoked.front().from), "2025-07-01 00:00:00 UTC");
    const Bytes before = keys().house.sign(plain_image(), keys().clock, "20250315120000Z");
    const Bytes after = keys().house.sign(plain_image(), keys().clock, "20250915120000Z");
    EXPECT_NE(why(trust, before).find("no authority for time stamps is enrolled"), std::string::npos)
        << why(trust, before);
    trust.time_authorities.push_back(keys().stranger.certificate());
    EXPECT_NE(why(trust, before).find("leads to no authority"), std::string::npos);
    trust.time_authorities.push_back(keys().clock.certificate());
    EXPECT_EQ(why(trust, before), "runs");
    EXPECT_NE(why(trust, after).find("signed on 2025-09-15 12:00:00 UTC"), std::string::npos) << why(trust, after);
    EXPECT_NE(why(trust, keys().house.sign(plain_image())).find("no time stamp"), std::string::npos);
    EXPECT_NE(
        why(trust, keys().house.sign(plain_image(), keys().clock, "20250315120000Z", false)).find("no time stamp"),
        std::string::npos)
        << "firmware does not look at countersignatures";
    // A token that was made for another signature.
    Bytes moved = before;
    const Bytes other = keys().house.sign(plain_image());
    const std::size_t at = forge::get32(other, 0x98 + 112 + 32);
    ASSERT_EQ(forge::get32(before, 0x98 + 112 + 32), at);
    const auto signatures = image_signatures(*support::source_of(before));
    ASSERT_TRUE(signatures.front().time);
    EXPECT_TRUE(signatures.front().time->intact);
    EXPECT_TRUE(signatures.front().time->token);
    EXPECT_EQ(signatures.front().time->by, "CN = Almhof clock");
    EXPECT_EQ(utc_text(signatures.front().time->seconds), "2025-03-15 12:00:00 UTC");
}

TEST(TimeStamps, CountersignaturesAreReadAndProven) {
    const Bytes image = keys().house.sign(plain_image(), keys().clock, "20250401000000Z", false);
    const auto signatures = image_signatures(*support::source_of(image));
    ASSERT_EQ(signatures.size(), 1U);
    EXPECT_TRUE(signatures.front().intact);
    ASSERT_TRUE(signatures.front().time);
    EXPECT_TRUE(signatures.front().time->intact);
    EXPECT_FALSE(signatures.front().time->token);
    EXPECT_EQ(signatures.front().time->by, "CN = Almhof clock");
    EXPECT_EQ(utc_text(signatures.front().time->seconds), "2025-04-01 00:00:00 UTC");
    EXPECT_EQ(signatures.front().chain.front().subject, "CN = Almhof house");
    // Whatever byte of it is turned, nothing is lost, and a time that still counts as proven is the same time.
    for (std::size_t i = forge::get32(image, 0x98 + 112 + 32); i < image.size(); i += 31) {
        Bytes wrong = image;
        wrong[i] ^= 0x10U;
        for (const auto& s : image_signatures(*support::source_of(wrong)))
            if (s.time && s.time->intact) {
                EXPECT_EQ(s.time->seconds, signatures.front().time->seconds);
            }
    }
}

TEST(Chains, AreHeldAgainstTheTimeOfSigning) {
    const auto problem = [](const Bytes& image) {
        return image_signatures(*support::source_of(image)).front().chain_problem;
    };
    EXPECT_EQ(problem(keys().leaf.sign(plain_image())), "") << "no time, no question of validity";
    EXPECT_EQ(problem(keys().leaf.sign(plain_image(), keys().clock, "20250315120000Z")), "");
    EXPECT_NE(problem(keys().leaf.sign(plain_image(), keys().clock, "20260315120000Z")).find("certificate has expired"),
              std::string::npos);
    EXPECT_NE(problem(keys().leaf.sign(plain_image(), keys().clock, "20240315120000Z", false)).find("not yet valid"),
              std::string::npos);
}

TEST(SeveralSignatures, OneThatIsAllowedIsEnoughAndOneRevokedRefuses) {
    const Bytes image = forge::sign_again(keys().stranger.sign(plain_image()), keys().house.sign(plain_image()));
    EXPECT_EQ(image_signatures(*support::source_of(image)).size(), 2U);
    auto trust = allowing(keys().house);
    EXPECT_EQ(why(trust, image), "runs");
    trust.denied = parse_signature_lists(revocation(keys().stranger, Bytes(16)));
    EXPECT_NE(why(trust, image), "runs");
}

TEST(Catalogues, ListDigestsUnderOneSignature) {
    const Bytes first = forge::make_pe({0x8664, 1, {"ntoskrnl.exe"}, {}, true});
    const Bytes second = forge::make_pe({0x8664, 1, {"hal.dll"}, {}, true});
    const Bytes file = keys().house.catalogue({first, second});
    const auto catalogue = read_catalogue(*support::source_of(file));
    ASSERT_TRUE(catalogue) << catalogue.error().text();
    EXPECT_TRUE(catalogue->intact);
    EXPECT_EQ(catalogue->signer, "CN = Almhof house");
    EXPECT_EQ(catalogue->digests.size(), 2U) << "once by name and once by what is signed: one each";
    for (std::size_t i = 0; i < file.size(); i += 13) {
        Bytes wrong = file;
        wrong[i] ^= 0x55U;
        if (const auto read = read_catalogue(*support::source_of(wrong))) {
            EXPECT_LE(read->digests.size(), 4U);
        }
    }
    EXPECT_FALSE(read_catalogue(*support::source_of({})));
    EXPECT_FALSE(read_catalogue(*support::source_of(forge::noise(5000, 1))));
    Bytes cut = file;
    cut.resize(cut.size() / 2);
    EXPECT_FALSE(read_catalogue(*support::source_of(cut)));
}

// --- Windows' drivers ------------------------------------------------------------------------------------------------

FileSignature of_item(const Machine& machine, const std::string& name) {
    for (const auto& system : find_systems(machine)) {
        if (system.kind != SystemKind::Windows) continue;
        const auto start = windows_startup(system);
        if (!start) continue;
        const auto found = std::ranges::find(start->items, name, &StartupItem::name);
        if (found != start->items.end()) return found->signature;
    }
    return {};
}

const std::string s32 = "/Windows/System32/";
const std::string catroot = s32 + "CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}/";

TEST(SignedDrivers, ByACatalogueInsideOrNotAtAll) {
    auto pc = demo::office_pc();
    const auto inside =
        keys().house.sign(forge::make_pe({0x14C, 1, {"ntoskrnl.exe"}, {{".bell", forge::noise(600, 5)}}, false}),
                          keys().clock, "20250315120000Z");
    pc.system_hive.child("ControlSet001\\Services\\lamp")
        .number("Type", 1)
        .number("Start", 1)
        .number("ErrorControl", 1)
        .text("ImagePath", "System32\\drivers\\lamp.sys", 2);
    pc.windows.file(s32 + "drivers/lamp.sys", inside);
    const auto machine = support::machine_of(pc.build());
    const auto listed = of_item(machine, "disk");
    EXPECT_EQ(listed.kind, FileSignature::Kind::Catalogue);
    EXPECT_EQ(listed.catalogue, catroot + "workplace.cat");
    const auto own = of_item(machine, "lamp");
    EXPECT_EQ(own.kind, FileSignature::Kind::Inside);
    EXPECT_EQ(own.by, "CN = Almhof house");
    ASSERT_TRUE(own.time);
    EXPECT_EQ(utc_text(own.time->seconds), "2025-03-15 12:00:00 UTC");
    const auto nobody = of_item(machine, "almbell");
    EXPECT_EQ(nobody.kind, FileSignature::Kind::None);
    EXPECT_EQ(nobody.looked_in, 1U);
    EXPECT_EQ(of_item(machine, "GuestBook").kind, FileSignature::Kind::None);
}

TEST(SignedDrivers, ADamagedCatalogueVouchesForNothing) {
    auto pc = demo::office_pc();
    auto& file = pc.windows.at(catroot + "workplace.cat").content;
    file[file.size() - 20] ^= 1U;  // in the signature's own bytes
    EXPECT_EQ(of_item(support::machine_of(pc.build()), "disk").kind, FileSignature::Kind::Broken);
    auto without = demo::office_pc();
    without.windows.remove(catroot + "workplace.cat");
    const auto nothing = of_item(support::machine_of(without.build()), "disk");
    EXPECT_EQ(nothing.kind, FileSignature::Kind::None);
    EXPECT_EQ(nothing.looked_in, 0U);
}

/// The office PC with 64-bit images, as far as its boot drivers go; a catalogue for all of them but `left_out`.
std::string wide_stage(const std::string& left_out, bool test_signing = false) {
    auto pc = demo::office_pc();
    static const Bytes boot = forge::make_pe({0x8664, 16, {}, {}, false});
    std::vector<Bytes> listed;
    auto& t = pc.windows;
    for (const char* name : {"ntoskrnl.exe", "hal.dll", "BOOTVID.dll", "drivers/disk.sys", "drivers/partmgr.sys",
                             "drivers/volmgr.sys", "drivers/storahci.sys", "drivers/Ntfs.sys"}) {
        const Bytes image = forge::make_pe({0x8664, 1, {}, {{".name", forge::to_bytes(name)}}, true});
        t.file(s32 + name, image);
        if (left_out != name) listed.push_back(image);
    }
    t.file(s32 + "winload.exe", keys().house.sign(boot));
    for (const char* name : {"smss.exe", "csrss.exe", "wininit.exe", "winlogon.exe", "services.exe", "lsass.exe"})
        t.file(s32 + name, forge::make_pe({0x8664, 2, {}, {}, true}));
    if (left_out == "all") t.remove(catroot + "workplace.cat");
    else t.file(catroot + "workplace.cat", keys().house.catalogue(listed));
    if (test_signing)
        for (auto& object : pc.store.children)
            for (auto& one : object.children) one.child("Elements\\16000049").bytes("Element", {1});
    return support::Checked(pc.build()).stage();
}

TEST(SignedDrivers, AnUnsignedBootDriverStopsA64BitSystemWhereCataloguesCount) {
    EXPECT_EQ(wide_stage(""), "yes");
    EXPECT_EQ(wide_stage("drivers/storahci.sys"), "kernel");
    EXPECT_EQ(wide_stage("all"), "yes") << "without catalogues nothing tells";
    EXPECT_EQ(wide_stage("drivers/storahci.sys", true), "yes") << "test signing is on";
}

}  // namespace
