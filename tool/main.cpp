// SPDX-License-Identifier: MIT
#include <fcntl.h>
#include <fmt/format.h>
#include <CLI/CLI.hpp>
#include <cstdio>
#include <cstdlib>
#include <exception>
#include <new>
#include <set>

#include <herberge/bytes.hpp>

#include "commands.hpp"

namespace {

using tool::Options;

void add_images(CLI::App& command, Options& options) {
    command.add_option("IMAGE", options.images, "The machine's disks, in the order in which its firmware tries them")
        ->required();
    command.add_option("--unreadable", options.unreadable,
                       "A text file of sectors that could not be read: on each line a first sector and a count (512 "
                       "bytes each), of d1 unless the line begins with another "
                       "disk: d2 4096 8");
    command
        .add_option("--unlock", options.unlock,
                    "PLACE=FILE: the passphrase or key file of an encrypted volume, such as d1p2=key.txt; may be given "
                    "several times. What lies inside is called open/d1p2")
        ->allow_extra_args(false)
        ->type_name("PLACE=FILE");
    command
        .add_option(
            "--flash-layout", options.flash_layouts,
            "How a raw flash is divided, as behind mtdparts= on the kernel's command line, or a file with that: "
            "d2=512k(u-boot),64k(env),-(rootfs)")
        ->allow_extra_args(false)
        ->type_name("dN=PARTS");
    command
        .add_option("--nand", options.nand,
                    "A dump of NAND flash that holds the spare area behind each page: bytes of a page and of its spare "
                    "area, perhaps the pages of a block (64 without): d2=2048+64 or d2=2048+64x128")
        ->allow_extra_args(false)
        ->type_name("dN=PAGE+SPARE");
    command
        .add_option("--boot-area", options.boot_areas,
                    "A dump of an eMMC's boot area partition 1, given twice of partition 2 as well: d1=area1.bin. A "
                    "board's ROM may start from there")
        ->allow_extra_args(false)
        ->type_name("dN=FILE");
    command.add_flag("--optical", options.optical,
                     "Discs (ISO 9660) lie in an optical drive, also those that could start as a disk");
    command.add_flag("--stats", options.stats, "Tell on standard error how much was read");
}

void add_format(CLI::App& command, Options& options) {
    command.add_option("--format", options.format, "text (for people) or json")->check(CLI::IsMember({"text", "json"}));
}

void add_firmware_kind(CLI::App& command, Options& options) {
    command
        .add_option("--firmware", options.firmware,
                    "auto, bios, uefi (64-bit), uefi32 (32-bit firmware of PCs) or board:NAME (`herberge boards` lists "
                    "the names)")
        ->check(CLI::Validator(
            [](const std::string& text) {
                static const std::set<std::string> kinds = {"auto", "bios", "uefi", "uefi32"};
                return kinds.contains(text) || text.starts_with("board:")
                           ? std::string{}
                           : text + " is none of auto, bios, uefi, uefi32, board:NAME";
            },
            "KIND"));
}

void add_firmware(CLI::App& command, Options& options) {
    add_firmware_kind(command, options);
    command.add_option(
        "--variables", options.variables,
        "The UEFI firmware's variables: a flash image, or a folder with a file per variable. Of a board: "
        "a dump of the flash in which its loader keeps its environment");
    command.add_option("--secure-boot", options.secure_boot, "auto (as the variables say), on or off")
        ->check(CLI::IsMember({"auto", "on", "off"}));
}

/// Each option is a line of what may also stand in the file of changes.
void add_suppositions(CLI::App& command, Options& options) {
    const struct {
        const char* word;
        const char* type;
        const char* help;
    } words[] = {
        {"choose", "ENTRY", "Somebody takes this entry of the menu: its title, or its place (1>0)"},
        {"keys", "KEYS", "… or presses these keys at the first menu: down,down,enter; esc shows one that is hidden"},
        {"kernel", "PLACE", "An entry by hand at the loader's prompt: its kernel, such as d1p2:/boot/vmlinuz"},
        {"ramdisk", "PLACE", "… its RAM disk"},
        {"arguments", "TEXT", "… the kernel's command line"},
        {"order", "DISKS", "The firmware tries the disks in this order: d2,d1"},
        {"without", "DISKS", "These disks are not there: d2"},
        {"active", "PLACE", "This is the active partition of its disk: d1p1"},
        {"identifier", "PLACE=ID", "A volume's file system has this UUID or serial"},
        {"content", "PLACE=FILE", "A file on a volume holds what this file holds"},
        {"remove", "PLACE", "A file is not there"},
        {"patch", "FILE", "The disks are changed by this patch"},
    };
    for (const auto& one : words)
        command
            .add_option_function<std::vector<std::string>>(
                std::string("--") + one.word,
                [&options, word = std::string(one.word)](const std::vector<std::string>& given) {
                    for (const auto& rest : given) options.supposed.push_back(fmt::format("{} {}", word, rest));
                },
                one.help)
            ->type_name(one.type)
            ->type_size(1)
            ->expected(1, 1000)
            ->allow_extra_args(false);
    command.add_option(
        "--changes", options.changes,
        "A text file of such changes, one per line: the option's name without its hyphens, and its value");
    command.add_flag("--strict", options.strict, "As with check");
    command.add_flag("--evidence", options.all_evidence, "As with check");
    command.footer(
        "Nothing is written to an image. Options may be given several times. The exit status is that of check for what "
        "is supposed.\n\nExamples:\n  herberge suppose desk.img --choose \"Desk, older kernel\"\n  herberge suppose "
        "desk.img --active d1p2\n  herberge suppose a.img b.img --order d2,d1\n  herberge suppose desk.img --kernel "
        "d1p1:/boot/vmlinuz-6.1.0 --arguments \"root=/dev/sda1 ro\"");
}

/// A standard stream that is closed would give its number to the next file that is opened.
void hold_standard_streams() {
    for (int descriptor = 0; descriptor < 3; ++descriptor)
        if (::fcntl(descriptor, F_GETFD) == -1 && ::open("/dev/null", O_RDONLY) == -1)
            std::_Exit(tool::Exit::unreadable);
}

void tell_of_no_memory() { std::fputs("herberge: there is not enough memory for this\n", stderr); }

/// The JSON library allocates while it destroys: what fails there ends the process without coming to main.
[[noreturn]] void end_without_memory() {
    try {
        if (const auto error = std::current_exception()) std::rethrow_exception(error);
    } catch (const std::bad_alloc&) {
        tell_of_no_memory();
        std::_Exit(tool::Exit::unreadable);
    } catch (...) {
        std::abort();
    }
    std::abort();
}

void add_check(CLI::App& app, Options& options, int& status) {
    auto* check = app.add_subcommand(
        "check", "Will each installed system start? If not: at which stage, why, what the screen shows");
    add_images(*check, options);
    add_format(*check, options);
    add_firmware(*check, options);
    check->add_flag(
        "--strict", options.strict,
        "A system of which it cannot be told whether it starts counts as one that does not (exit status 1)");
    check->add_flag("--evidence", options.all_evidence, "Show the evidence for stages that hold, too");
    check->add_flag("--no-rehearsal", options.no_rehearsal, "Do not run the first sector's code in an emulated PC");
    check->footer(
        "Examples:\n  herberge check desk.img\n  herberge check desk.img --format json | jq '.systems[].stops_at'\n  "
        "herberge check first.img second.img "
        "--evidence");
    check->callback([&] { status = tool::run_check(options); });
}

void add_systems(CLI::App& app, Options& options, int& status) {
    auto* systems = app.add_subcommand("systems", "Which systems are installed, and who starts whom");
    add_images(*systems, options);
    systems->add_option("--format", options.format, "text (for people), json, dot or svg")
        ->check(CLI::IsMember({"text", "json", "dot", "svg"}));
    add_firmware(*systems, options);
    systems->footer(
        "Examples:\n  herberge systems office.img archive.img\n  herberge systems office.img archive.img --format svg "
        "> who-starts-whom.svg");
    systems->callback([&] { status = tool::run_systems(options); });
}

void add_startup(CLI::App& app, Options& options, int& status) {
    auto* startup = app.add_subcommand(
        "startup", "What each installed system would start, in order, and whether each file is there");
    add_images(*startup, options);
    add_format(*startup, options);
    startup
        ->add_option("--level", options.levels,
                     "Linux: another run level or target than the one that it would start with: 3, multi-user.target, "
                     "boot. Given twice: what only one of them starts")
        ->allow_extra_args(false)
        ->type_name("NAME");
    startup->add_flag("--levels", options.all_levels, "Linux: a table of which run level or target starts what");
    startup
        ->add_option("--mode", options.start_mode,
                     "Windows: how it is started: normal, safe, safe-network, safe-shell (with a command line)")
        ->check(CLI::IsMember({"normal", "safe", "safe-network", "safe-shell"}))
        ->type_name("MODE");
    startup->footer(
        "Examples:\n  herberge startup office-pc.img\n  herberge startup office-pc.img --mode safe\n  herberge startup "
        "kitchen.img --level 1\n"
        "  herberge startup kitchen.img --level rescue --level multi-user");
    startup->callback([&] { status = tool::run_startup(options); });
}

void add_layout(CLI::App& app, Options& options, int& status) {
    auto* layout = app.add_subcommand("layout", "Partitions to scale, with every name each of them has");
    add_images(*layout, options);
    add_format(*layout, options);
    layout->footer("Example:\n  herberge layout desk.img");
    layout->callback([&] { status = tool::run_layout(options); });
}

void add_sector(CLI::App& app, Options& options, int& status) {
    auto* sector = app.add_subcommand("sector", "A sector with each of its fields named and decoded");
    add_images(*sector, options);
    add_format(*sector, options);
    sector->add_flag(
        "--boot-sectors", options.boot_sectors,
        "Every boot sector on the disks, each with its backup copy beside it; a disc's boot catalogue and images");
    sector->add_option("--at", options.place,
                       "d1 (default: the first sector of each disk), d1p2 (of a partition), or d1@BYTES");
    sector->add_option("--as", options.structure,
                       "Show what lies at the place as this kind of structure; the place may be a file, too");
    sector->add_option("--byte", options.byte, "With --as: so many bytes behind the place's beginning");
    sector->add_option("--count", options.count, "With --as: so many of them")->check(CLI::PositiveNumber);
    sector->get_option("IMAGE")->required(false);
    sector->add_flag("--kinds", options.kinds, "List the kinds of structures for --as");
    sector->footer(
        "Examples:\n  herberge sector desk.img\n  herberge sector desk.img --at d1@512\n  herberge sector desk.img "
        "--at d1p1@1024\n  herberge sector desk.img --at d1p1:/boot/vmlinuz --byte 497 --as linux-setup");
    sector->callback([&] {
        if (!options.kinds && options.images.empty()) throw CLI::RequiredError("IMAGE");
        status = options.kinds ? tool::list_structures() : tool::run_sector(options);
    });
}

void add_entries(CLI::App& app, Options& options, int& status) {
    auto* entries = app.add_subcommand("entries", "What each loader is set to do, and whether each entry resolves");
    add_images(*entries, options);
    add_format(*entries, options);
    entries->add_option(
        "--variables", options.variables,
        "The UEFI firmware's variables: its boot options are listed too. Of a board: a dump of its flash");
    add_firmware_kind(*entries, options);
    entries->footer(
        "With --firmware board:NAME what that board's loader comes to when it carries out its commands.\n\n"
        "Examples:\n  herberge entries desk.img\n  herberge entries card.img --firmware board:sunxi-h3-brom");
    entries->callback([&] { status = tool::run_entries(options); });
}

void add_variables(CLI::App& app, Options& options, int& status) {
    auto* variables =
        app.add_subcommand("variables", "UEFI variables; one of them with each of its fields named and decoded");
    variables->add_option("VARIABLES", options.variables, "A flash image, or a folder with a file per variable")
        ->required();
    variables->add_option("--name", options.name,
                          "BootOrder, Boot0001, db, dbx …: its device paths, its signature lists");
    add_format(*variables, options);
    variables->footer("Examples:\n  herberge variables flash.fd\n  herberge variables flash.fd --name Boot0001");
    variables->callback([&] { status = tool::run_variables(options); });
}

void add_files(CLI::App& app, Options& options, int& status) {
    auto* files = app.add_subcommand("files", "List a directory of a volume");
    add_images(*files, options);
    add_format(*files, options);
    files->add_option("--in", options.place, "The directory: d1p1:/boot")->required();
    files->footer("Example:\n  herberge files desk.img --in d1p1:/boot/grub");
    files->callback([&] { status = tool::run_files(options); });
}

void add_copy(CLI::App& app, Options& options, int& status) {
    auto* copy = app.add_subcommand("copy", "Copy a file or a byte range out of an image");
    add_images(*copy, options);
    copy->add_option("--from", options.place, "What: d1p1:/boot/grub/grub.cfg, or d1@0+512")->required();
    copy->add_option("--to", options.output, "The file to write; - for standard output")->required();
    copy->add_flag("--replace", options.replace,
                   "The file to write may be there already: it is replaced once the copy is whole");
    copy->footer(
        "Examples:\n  herberge copy desk.img --from d1p1:/boot/grub/grub.cfg --to -\n  herberge copy desk.img --from "
        "d1@0+512 --to first-sector.bin");
    copy->callback([&] { status = tool::run_copy(options); });
}

void add_rehearse(CLI::App& app, Options& options, int& status) {
    auto* rehearse =
        app.add_subcommand("rehearse", "Run the boot code in an emulated PC: what it reads, prints and jumps to");
    add_images(*rehearse, options);
    add_format(*rehearse, options);
    rehearse->add_option("--keys", options.keys, "Keys to press at moments of virtual time: 2:esc,3.5:enter");
    rehearse->add_option("--until", options.until, "Stop when this stage is reached: boot-sector, loader, kernel …");
    rehearse->add_option("--millions", options.millions, "Budget in millions of instructions")
        ->check(CLI::Range(0.001, 100000.0))
        ->capture_default_str();
    rehearse->footer(
        "Loading a kernel that is known from decoding ends it, unless --until kernel asks for more.\nExit status 0: a "
        "kernel, or the stage asked for, was "
        "reached; else 1.\n\nExamples:\n  herberge rehearse desk.img\n  herberge rehearse desk.img --keys "
        "1:esc,2:down,3:enter\n  herberge rehearse desk.img "
        "--until loader --format json");
    rehearse->callback([&] { status = tool::run_rehearse(options); });
}

void add_mend(CLI::App& app, Options& options, int& status) {
    auto* mend = app.add_subcommand("mend", "What would make a system start that does not, proven on an overlay");
    add_images(*mend, options);
    add_format(*mend, options);
    add_firmware(*mend, options);
    mend->add_option("--patch-to", options.patch_to, "Write a proposal's changes to this file (- for standard output)");
    mend->add_option("--undo-to", options.undo_to, "Write what takes them back");
    mend->add_option("--steps-to", options.steps_to, "Write them as a list to follow by hand");
    mend->add_option("--variables-to", options.variables_to,
                     "Write the flash image of --variables as a proposal would have its variables");
    mend->add_option("--proposal", options.proposal, "Which proposal, as they are numbered")
        ->check(CLI::Range(1, 1000))
        ->capture_default_str();
    mend->add_flag("--replace", options.replace, "Files to write may be there already");
    mend->footer(
        "Each proposal was made on an overlay and the machine was walked again: the system starts, and no other one "
        "fares worse. Nothing is written to an image; herberge apply writes a patch to a copy.\n"
        "Exit status 1: for some system nothing was found.\n\n"
        "Examples:\n  herberge mend desk.img\n  herberge mend desk.img --proposal 2 --patch-to mend.json --undo-to "
        "undo.json");
    mend->callback([&] { status = tool::run_mend(options); });
}

void add_apply(CLI::App& app, Options& options, int& status) {
    auto* apply = app.add_subcommand("apply", "Write a patch into a copy of the images; never into the images");
    add_images(*apply, options);
    apply->add_option("--patch", options.patch, "The patch, as mend writes it")->required();
    apply
        ->add_option(
            "--to", options.copies,
            "The copy of the disk that changes: made with the changes if it is not there; if it is, changed in "
            "place, and what is replaced kept in FILE.undo.json. One for each disk that changes, in their order")
        ->required()
        ->allow_extra_args(false);
    apply->add_flag("--device-yes", options.device_yes, "A copy may be a block device");
    apply->footer(
        "Nothing is written unless every byte that changes is there as the patch expects it.\n\nExample:\n  herberge "
        "apply "
        "desk.img --patch mend.json --to mended.img");
    apply->callback([&] { status = tool::run_apply(options); });
}

void add_suppose(CLI::App& app, Options& options, int& status) {
    auto* suppose =
        app.add_subcommand("suppose", "The same verdict if something were otherwise, and what that changes");
    add_images(*suppose, options);
    add_format(*suppose, options);
    add_firmware(*suppose, options);
    add_suppositions(*suppose, options);
    suppose->callback([&] { status = tool::run_suppose(options); });
}

void add_boards(CLI::App& app, Options& options, int& status) {
    auto* boards =
        app.add_subcommand("boards", "Boards whose start can be followed: what their ROM looks for, and where");
    add_images(*boards, options);
    boards->get_option("IMAGE")->required(false);
    add_format(*boards, options);
    boards->footer(
        "With an image: only the boards whose ROM would start something from it.\n\n"
        "Examples:\n  herberge boards\n  herberge boards card.img\n  herberge check card.img --firmware "
        "board:sunxi-h3-brom");
    boards->callback([&] { status = tool::run_boards(options); });
}

void add_symptom(CLI::App& app, Options& options, int& status) {
    auto* symptom = app.add_subcommand(
        "symptom", "From what a screen shows back to the stage and the faults that it may come from");
    add_images(*symptom, options);
    add_format(*symptom, options);
    add_firmware(*symptom, options);
    symptom->get_option("IMAGE")->required(false);
    symptom
        ->add_option("--seen", options.seen,
                     "A line of the screen, or a part of it, or an error number; may be given several times")
        ->allow_extra_args(false);
    symptom->add_option("--seen-in", options.seen_in, "A text file with what was seen; - for standard input");
    symptom->footer(
        "With images, the faults that these really have come first, then what they can be shown not to have.\n"
        "Exit status 1: the text is not known.\n\n"
        "Examples:\n  herberge symptom --seen 0xc000000f\n  herberge symptom desk.img --seen \"VFS: Unable to mount "
        "root\"\n  herberge symptom --seen-in console.txt --format json");
    symptom->callback([&] { status = tool::run_symptom(options); });
}

void add_compare(CLI::App& app, Options& options, int& status) {
    auto* compare = app.add_subcommand(
        "compare", "What differs between two machines on the way of a start, and which of it matters");
    add_images(*compare, options);
    add_format(*compare, options);
    add_firmware(*compare, options);
    compare
        ->add_option("--with", options.with,
                     "A disk of the second machine; one for each, in their order. With one image each, two images do")
        ->allow_extra_args(false)
        ->type_name("IMAGE");
    compare->add_option("--patch", options.patch, "The second machine is the first one with this patch");
    compare->add_option("--variables-with", options.variables_with,
                        "The second machine's UEFI variables; otherwise those of the first");
    compare->footer(
        "Exit status: 0 alike, 1 something on the way of a start differs.\n\nExamples:\n  herberge compare good.img "
        "bad.img\n  herberge compare a1.img a2.img --with b1.img --with b2.img\n  herberge compare desk.img --patch "
        "mend.json");
    compare->callback([&] { status = tool::run_compare(options); });
}

void add_report(CLI::App& app, Options& options, int& status) {
    auto* report = app.add_subcommand(
        "report", "All of it in one document to hand on: a page, a ticket's text, results for a build");
    add_images(*report, options);
    report
        ->add_option("--format", options.format,
                     "html (one page by itself), markdown, junit (each system is a test case), sarif (2.1.0) or json")
        ->check(CLI::IsMember({"html", "markdown", "junit", "sarif", "json"}))
        ->default_str("html");
    add_firmware(*report, options);
    report->add_option("--to", options.output, "The file to write; otherwise it goes to standard output");
    report->add_flag("--replace", options.replace, "The file to write may be there already");
    report->add_flag("--hash", options.hash, "Tell the SHA-256 of each image (reads all of it)");
    report->add_flag("--no-proposals", options.no_mending, "Do not look for what would mend it, which takes longest");
    report->add_flag("--strict", options.strict, "As with check");
    report->footer(
        "The exit status is that of check. SOURCE_DATE_EPOCH, where it is set, is the time that the report tells.\n\n"
        "Examples:\n  herberge report desk.img --hash --to desk.html\n  herberge report desk.img --format junit --to "
        "boot.xml\n  herberge report first.img second.img --format markdown");
    report->callback([&] {
        if (options.format == "text") options.format = "html";
        status = tool::run_report(options);
    });
}

void add_demo(CLI::App& app, Options& options, int& status) {
    auto* demo = app.add_subcommand("demo", "Write the demo disks into a folder and walk them");
    demo->add_option("FOLDER", options.folder, "Where to; made if it is not there")->default_val("demo-disks");
    demo->footer("Example:\n  herberge demo /tmp/inn");
    demo->callback([&] { status = tool::run_demo(options); });
}

int run(int argc, char** argv) {
    CLI::App app{
        "Tells from disk images at which stage each installed system would fail to start. Nothing is ever written to "
        "an image.",
        "herberge"};
    app.require_subcommand(1);
    app.set_version_flag("--version", tool::program_version);
    app.footer(
        "Exit status: 0 every system found starts, 1 some system would not (or none was found),\n2 wrong usage, 3 an "
        "input cannot be read or an output not "
        "written,\n4 none is known not to start, but some cannot be told (check --strict: 1).\n\n"
        "Places: d1 the first disk, d1p2 its partition 2, d1p2:/boot/vmlinuz a file, d1@512+1024 bytes.");
    Options options;
    int status = 0;

    for (const auto add :
         {add_check, add_systems, add_startup, add_layout, add_sector, add_entries, add_variables, add_files, add_copy,
          add_rehearse, add_mend, add_apply, add_suppose, add_symptom, add_boards, add_compare, add_report, add_demo})
        add(app, options, status);

    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        const int code = app.exit(error);
        status = code == 0 ? 0 : tool::Exit::usage;
    }
    if (std::fflush(stdout) != 0 || std::ferror(stdout) != 0) {
        std::fputs("herberge: the output could not be written\n", stderr);
        return tool::Exit::unreadable;
    }
    return status;
}

}  // namespace

int main(int argc, char** argv) {
    hold_standard_streams();
    std::set_terminate(end_without_memory);
    try {
        return run(argc, argv);
    } catch (const std::bad_alloc&) {
        tell_of_no_memory();
    } catch (const std::exception& error) {
        std::fputs("herberge: given up, by a fault of this program: ", stderr);
        std::fputs(herberge::printable(error.what()).c_str(), stderr);
        std::fputs("\n", stderr);
    }
    return tool::Exit::unreadable;
}
