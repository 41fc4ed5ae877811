// SPDX-License-Identifier: MIT
// Disks and variables on which a UEFI firmware must decide: which application it starts, or none. Each application ends
// the virtual machine with a number of its own, so that who ran is told without looking at a screen.
// usage: herberge_uefi_cases FLASH-WITH-EMPTY-STORE OUTPUT-FOLDER
#include <cstdio>
#include <fstream>
#include <functional>
#include <iterator>
#include <tuple>

#include "forge/sign.hpp"
#include "kiosk.hpp"

namespace {

using forge::Bytes;

constexpr const char* global = "8be4df61-93ca-11d2-aa0d-00e098032b8c";
constexpr const char* security = "d719b2cb-3d3a-4596-a3bc-dad00e67656f";
constexpr const char* certificates_by_sha256 = "3bd2a492-96c0-4079-b420-fcf98ef103ed";
constexpr const char* images_by_sha256 = "c1c41626-504c-4092-aca9-41f936934328";
constexpr const char* own = "/EFI/almhof/checkin.efi";

Bytes read(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
}

/// mov al, number; out 0xF4, al; xor eax, eax; ret
Bytes application(std::uint8_t number, std::uint16_t machine = 0x8664) {
    Bytes out = forge::make_efi_application({}, machine);
    const Bytes code{0xB0, number, 0xE6, 0xF4, 0x31, 0xC0, 0xC3};
    const std::size_t at = forge::get32(out, 0x98 + 60);  // the first section lies behind the headers
    forge::put32(out, 0x98 + (machine == 0x14C ? 224 : 240) + 8, 128);
    std::copy(code.begin(), code.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
    return out;
}

struct Case {
    std::string name;
    forge::Tree esp;
    std::vector<forge::Variable> variables;
    bool secure = true;
    bool option = true;
    bool active = true;
    std::string guid;  ///< empty: the partition's own
    Bytes optional;    ///< handed to the application
    std::string path = "\\EFI\\almhof\\checkin.efi";
};

class Cases {
public:
    explicit Cases(Bytes flash, std::string folder) : flash_(std::move(flash)), folder_(std::move(folder)) {}

    void write(Case c) {
        forge::DiskSpec spec;
        spec.size = 24U << 20U;
        spec.gpt = true;
        forge::FatOptions fat;
        fat.size = 20U << 20U;
        spec.partitions = {{2048, forge::make_fat(c.esp, fat).bytes, 0xEF, false}};
        const Bytes disk = forge::make_disk(spec);
        const std::string guid = c.guid.empty() ? demo::kiosk_partition_guid(disk, 1) : c.guid;
        auto variables = c.variables;
        const Bytes house_list = forge::make_certificate_list({house_.certificate()});
        if (c.secure)
            for (const char* name : {"PK", "KEK"}) variables.push_back({name, global, house_list, 0x3F, 0x27});
        if (c.option) {
            variables.push_back({"BootOrder", global, {4, 0}});
            variables.push_back(
                {"Boot0004", global, forge::make_boot_option("Almhof", 1, guid, c.path, c.active, c.optional)});
        }
        forge::write_sparse(folder_ + "/" + c.name + ".img", disk);
        const Bytes flash = forge::fill_flash(flash_, variables);
        if (flash.empty()) throw std::runtime_error("the flash image has no variable store");
        std::ofstream(folder_ + "/" + c.name + ".fd", std::ios::binary)
            .write(reinterpret_cast<const char*>(flash.data()), static_cast<std::streamsize>(flash.size()));
        std::printf("%s\n", c.name.c_str());
    }

    /// An application at the option's place.
    static Case with(std::string name, Bytes image, std::vector<forge::Variable> variables = {}) {
        Case out;
        out.name = std::move(name);
        out.esp.file(own, std::move(image));
        out.variables = std::move(variables);
        return out;
    }

    void signatures() {
        const forge::SigningKey stranger("Almhof stranger");
        const forge::SigningKey authority("Almhof clock");
        const forge::SigningKey between("Almhof intermediate", &house_);
        const forge::SigningKey leaf("Almhof leaf", &between);
        const auto list = [](const std::vector<Bytes>& certificates) {
            return forge::make_certificate_list(certificates);
        };
        const auto db = [&](const Bytes& data) { return forge::Variable{"db", security, data, 0x3F, 0x27}; };
        const auto dbx = [&](const Bytes& data) { return forge::Variable{"dbx", security, data, 0x3F, 0x27}; };
        const auto dbt = [&](const Bytes& data) { return forge::Variable{"dbt", security, data, 0x3F, 0x27}; };
        const auto house = db(list({house_.certificate()}));
        const auto revoked = [](const forge::SigningKey& key, const Bytes& time) {
            Bytes entry = key.signed_part_digest();
            entry.insert(entry.end(), time.begin(), time.end());
            return forge::make_signature_list(certificates_by_sha256, {entry});
        };
        const Bytes app = application(1);
        write(with("signed", house_.sign(app), {house}));
        write(with("unsigned", app, {house}));
        Bytes changed = house_.sign(app);
        changed[forge::get32(changed, 0x98 + 60) + 64] ^= 1U;
        write(with("changed", changed, {house}));
        write(with("stranger", stranger.sign(app), {house}));
        write(with("digest-allowed", app,
                   {db(forge::make_signature_list(images_by_sha256, {forge::image_digest(app)}))}));
        write(with("digest-denied", house_.sign(app),
                   {house, dbx(forge::make_signature_list(images_by_sha256, {forge::image_digest(app)}))}));
        write(with("signer-denied", house_.sign(app), {house, dbx(list({house_.certificate()}))}));
        write(with("signer-revoked", house_.sign(app), {house, dbx(revoked(house_, Bytes(16)))}));
        const Bytes summer = forge::efi_time(2025, 7, 1);
        write(with("revoked-later-no-stamp", house_.sign(app),
                   {house, dbx(revoked(house_, summer)), dbt(list({authority.certificate()}))}));
        write(with("revoked-later-stamped-before", house_.sign(app, authority, "20250315120000Z"),
                   {house, dbx(revoked(house_, summer)), dbt(list({authority.certificate()}))}));
        write(with("revoked-later-stamped-after", house_.sign(app, authority, "20250915120000Z"),
                   {house, dbx(revoked(house_, summer)), dbt(list({authority.certificate()}))}));
        write(with("revoked-later-no-authority", house_.sign(app, authority, "20250315120000Z"),
                   {house, dbx(revoked(house_, summer))}));
        write(with("revoked-later-other-authority", house_.sign(app, authority, "20250315120000Z"),
                   {house, dbx(revoked(house_, summer)), dbt(list({stranger.certificate()}))}));
        write(with("revoked-later-countersigned", house_.sign(app, authority, "20250315120000Z", false),
                   {house, dbx(revoked(house_, summer)), dbt(list({authority.certificate()}))}));
        write(with("chain", leaf.sign(app), {house}));
        write(with("chain-intermediate-allowed", leaf.sign(app), {db(list({between.certificate()}))}));
        write(with("chain-leaf-revoked", leaf.sign(app), {house, dbx(revoked(leaf, Bytes(16)))}));
        write(with("chain-intermediate-revoked", leaf.sign(app), {house, dbx(revoked(between, Bytes(16)))}));
        write(with("chain-root-revoked", leaf.sign(app), {house, dbx(revoked(house_, Bytes(16)))}));
        write(with("chain-intermediate-denied", leaf.sign(app), {house, dbx(list({between.certificate()}))}));
        write(with("two-roots-second-revoked", leaf.sign(app),
                   {db(list({between.certificate(), house_.certificate()})), dbx(revoked(house_, Bytes(16)))}));
        write(with("two-roots-one-revoked", leaf.sign(app),
                   {db(list({house_.certificate(), between.certificate()})), dbx(revoked(house_, Bytes(16)))}));
        write(with("two-signatures", forge::sign_again(stranger.sign(app), house_.sign(app)), {house}));
        write(with("two-signatures-first-revoked", forge::sign_again(stranger.sign(app), house_.sign(app)),
                   {house, dbx(revoked(stranger, Bytes(16)))}));
        Bytes behind = house_.sign(app);
        behind.resize(behind.size() + 64);
        write(with("bytes-behind-the-table", behind, {house}));
        auto off = with("secure-boot-off", app);
        off.secure = false;
        write(off);
    }

    void options() {
        const Bytes app = application(1);
        const auto plain = [&](std::string name) {
            auto out = with(std::move(name), app);
            out.secure = false;
            return out;
        };
        write(plain("option"));
        auto c = plain("option-inactive");
        c.active = false;
        write(c);
        c = plain("option-inactive-fallback");
        c.active = false;
        c.esp.file("/EFI/BOOT/BOOTX64.EFI", application(2));
        write(c);
        c = plain("option-gone-partition");
        c.guid = "0ff1ce00-dead-4000-8000-000000000001";
        write(c);
        c = plain("option-gone-fallback");
        c.guid = "0ff1ce00-dead-4000-8000-000000000001";
        c.esp.file("/EFI/BOOT/BOOTX64.EFI", application(2));
        write(c);
        c = plain("option-gone-file");
        c.path = "\\EFI\\almhof\\gone.efi";
        write(c);
        c = plain("option-forward-slashes");
        c.path = "/EFI/almhof/checkin.efi";
        write(c);
        c = plain("option-other-case");
        c.path = "\\efi\\ALMHOF\\CheckIn.EFI";
        write(c);
        c = plain("no-option");
        c.option = false;
        write(c);
        c = plain("no-option-fallback");
        c.option = false;
        c.esp.file("/EFI/BOOT/BOOTX64.EFI", application(2));
        write(c);
        c = plain("image-for-i386");
        c.esp.file(own, application(1, 0x14C));
        write(c);
        c = plain("image-cut");
        Bytes cut = app;
        cut.resize(700);
        c.esp.file(own, cut);
        write(c);
        c = plain("image-many-sections");
        Bytes many = app;
        forge::put16(many, 0x86, 0xFFFF);
        c.esp.file(own, many);
        write(c);
        c = plain("image-sections-fill-headers");
        Bytes full = app;
        forge::put16(full, 0x86, (0x200 - 0x188) / 40);
        c.esp.file(own, full);
        write(c);
        c = plain("image-sections-beyond-headers");
        forge::put16(full, 0x86, (0x200 - 0x188) / 40 + 1);
        c.esp.file(own, full);
        write(c);
        for (const auto& [name, at, size] :
             {std::tuple("past-the-end", 0x10000U, 64U), std::tuple("too-long", 512U, 0x10000U),
              std::tuple("wrapping", 0xFFFFFFF0U, 64U), std::tuple("empty", 512U, 0U)}) {
            c = plain(std::string("certificates-") + name);
            Bytes wrong = app;
            forge::put32(wrong, 0x98 + 112 + 32, at);
            forge::put32(wrong, 0x98 + 112 + 36, size);
            c.esp.file(own, wrong);
            write(c);
        }
        for (const auto& [name, size] :
             {std::pair("image-smaller-than-headers", 0x100U), std::pair("image-smaller-than-section", 0x1040U)}) {
            c = plain(name);
            Bytes small = app;
            forge::put32(small, 0x98 + 56, size);
            c.esp.file(own, small);
            write(c);
        }
        // Relocations: a page and a size, then entries; the section lies at 1000h, the headers end at 200h.
        const auto relocated = [&](std::uint32_t address, std::uint32_t size, std::uint32_t page, std::uint32_t block) {
            Bytes out = app;
            forge::put32(out, 0x98 + 112 + 40, address);
            forge::put32(out, 0x98 + 112 + 44, size);
            forge::put32(out, 0x98 + 24, 0);
            forge::put32(out, 0x200 + 64, page);
            forge::put32(out, 0x200 + 68, block);
            return out;
        };
        for (const auto& [name, image] : {std::pair("relocations-good", relocated(0x1040, 12, 0x1000, 12)),
                                          std::pair("relocations-outside", relocated(0x9000, 12, 0x1000, 12)),
                                          std::pair("relocations-block-of-zero", relocated(0x1040, 12, 0x1000, 0)),
                                          std::pair("relocations-block-too-long", relocated(0x1040, 12, 0x1000, 500)),
                                          std::pair("relocations-page-outside", relocated(0x1040, 12, 0x7000, 12))}) {
            c = plain(name);
            c.esp.file(own, image);
            write(c);
        }
        for (const auto& [name, base] : {std::pair("stripped-at-0", 0U), std::pair("stripped-at-4m", 0x400000U),
                                         std::pair("stripped-odd", 0x400100U)}) {
            c = plain(name);
            Bytes stripped = app;
            stripped[0x96] |= 1U;
            forge::put32(stripped, 0x98 + 24, base);
            c.esp.file(own, stripped);
            write(c);
        }
        c = plain("image-other-subsystem");
        Bytes console = app;
        forge::put16(console, 0x98 + 68, 3);
        c.esp.file(own, console);
        write(c);
    }

    void shim(const std::string& packages) {
        const Bytes real = read(packages + "/shimx64.efi.signed");
        const Bytes helper = read(packages + "/fbx64.efi.signed");
        if (real.empty() || helper.empty()) return;
        const auto disk = [&](std::string name) {
            Case out;
            out.name = std::move(name);
            out.secure = false;
            out.path = "\\EFI\\almhof\\shimx64.efi";
            out.esp.file("/EFI/almhof/shimx64.efi", real);
            out.esp.file("/EFI/almhof/grubx64.efi", application(1));
            out.esp.file("/EFI/almhof/lamp.efi", application(3));
            out.esp.file("/EFI/lamp.efi", application(4));
            return out;
        };
        write(disk("shim"));
        auto c = disk("shim-no-second-stage");
        c.esp.remove("/EFI/almhof/grubx64.efi");
        write(c);
        c = disk("shim-names-another");
        c.optional = forge::utf16("\\lamp.efi");
        write(c);
        c = disk("shim-names-another-bare");
        c.optional = forge::utf16("lamp.efi");
        write(c);
        c = disk("shim-names-itself-first");
        c.optional = forge::utf16("shimx64.efi \\lamp.efi");
        write(c);
        c = disk("shim-names-whole-path");
        c.optional = forge::utf16("\\EFI\\lamp.efi");
        write(c);
        c = disk("shim-names-nothing-there");
        c.optional = forge::utf16("\\gone.efi");
        write(c);
        c = disk("shim-odd-bytes");
        c.optional = {0x46, 0x4A, 0x00};
        write(c);
        const auto removable = [&](std::string name) {
            auto out = disk(std::move(name));
            out.option = false;
            out.esp.file("/EFI/BOOT/BOOTX64.EFI", real);
            out.esp.file("/EFI/BOOT/grubx64.efi", application(2));
            return out;
        };
        write(removable("shim-removable"));
        c = removable("shim-removable-with-list");
        c.esp.file("/EFI/BOOT/fbx64.efi", helper);
        Bytes list{0xFF, 0xFE};
        for (const auto b : forge::utf16("shimx64.efi,Almhof,,The inn's own\n", false)) list.push_back(b);
        c.esp.file("/EFI/almhof/BOOTX64.CSV", list);
        write(c);
        c.name = "shim-removable-helper-without-list";
        c.esp.remove("/EFI/almhof/BOOTX64.CSV");
        write(c);
    }

private:
    Bytes flash_;
    std::string folder_;
    forge::SigningKey house_{"Almhof house"};
};

}  // namespace

int main(int argc, char** argv) {
    if (argc != 3) return 2;
    Cases cases(read(argv[1]), argv[2]);
    cases.signatures();
    cases.options();
    cases.shim("/usr/lib/shim");
    return 0;
}
