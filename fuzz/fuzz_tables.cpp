// SPDX-License-Identifier: MIT
// Decoders of small structures by themselves: the first byte says which one gets the rest.
#include <cstdint>
#include <span>
#include <string_view>

#include <herberge/herberge.hpp>

#include "loader/grub/elf_module.hpp"
#include "loader/grub/script.hpp"
#include "loader/uboot/environment.hpp"
#include "loader/uboot/script.hpp"
#include "sums.hpp"
#include "system/crypttab.hpp"
#include "system/run_levels.hpp"

namespace {

using namespace herberge;

Source source_of(std::span<const std::uint8_t> bytes) { return memory_source({bytes.begin(), bytes.end()}, "d1", 1); }

void disk(std::span<const std::uint8_t> bytes) {
    const auto source = source_of(bytes);
    if (const auto table = read_partition_table(*source)) (void)stretches(*table, source->size());
    (void)annotate_mbr(*source);
}
void disc(std::span<const std::uint8_t> bytes) {
    const auto source = source_of(bytes);
    (void)read_boot_catalogue(*source);
    (void)read_boot_information(*source, 0);
    (void)boot_image_checksum(*source, 0, bytes.size());
    (void)is_grub_disc_boot(bytes);
}
void sector(std::span<const std::uint8_t> bytes) {
    (void)identify_loader(bytes);
    if (const auto boot = recognise_grub_boot(bytes)) {
        const auto inspected = inspect_disk(source_of(bytes), 1, "input");
        (void)read_grub_core(inspected, *boot);
        (void)find_grub_core(inspected);
    }
}
void core(std::span<const std::uint8_t> bytes) {
    (void)read_grub_efi(*source_of(bytes));
    (void)grub::read_module(bytes, "x86_64-efi");
    (void)grub::read_module(bytes);
}
void firmware(std::span<const std::uint8_t> bytes) {
    if (const auto variables = parse_uefi_flash(bytes)) {
        (void)boot_options(*variables);
        for (const auto& variable : variables->all) (void)view_variable(variable);
    }
}
void paths(std::span<const std::uint8_t> bytes) {
    (void)decode_device_path(bytes);
    (void)annotate_device_path(bytes);
    (void)load_option_text(bytes);
    (void)parse_signature_lists(bytes);
}
void texts(std::span<const std::uint8_t> bytes) {
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    (void)parse_sbat(text);
    (void)parse_fstab(text);
    (void)parse_inittab(text);
    (void)parse_depend(text);
    (void)parse_flash_layout(text, std::uint64_t{1} << 24U);
    (void)parse_nand_shape(text);
    (void)parse_crypttab(Machine{}, text, "d1:/etc/crypttab");
    const CommandLine line(text);
    (void)line.value("root");
    (void)resolve_root(Machine{}, text.substr(0, 100));
}
void scripts(std::span<const std::uint8_t> bytes) {
    const std::string text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    grub::Lines lines(text);
    while (const auto line = lines.next()) {
        (void)grub::split_words(*line);
        (void)grub::parse(*line, lines);
    }
    (void)loader::uboot::parse_script(text);
    (void)loader::uboot::parse_variables(bytes);
}

constexpr void (*decoders[])(std::span<const std::uint8_t>) = {disk,     disc,  sector, core,
                                                               firmware, paths, texts,  scripts};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size < 2 || size > (std::size_t{96} << 10U)) return 0;
    decoders[data[0] % std::size(decoders)]({data + 1, size - 1});
    return 0;
}

// The first byte says which sums there are, too.
extern "C" std::size_t LLVMFuzzerCustomMutator(std::uint8_t* data, std::size_t size, std::size_t most, unsigned seed) {
    const auto kind = size == 0 ? 0U : data[0] % std::size(decoders);
    return fuzz::mutate(kind == 4   ? fuzz::Sums::Firmware
                        : kind == 7 ? fuzz::Sums::Board
                                    : fuzz::Sums::Disk,
                        1, data, size, most, seed);
}
