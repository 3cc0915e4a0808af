#include "model/tables.h"

static const char *const cpus[] = {MOS_CPUS(MOS_CHOICE_WORD) NULL};
static const char *const media_kinds[] = {MOS_MEDIUM_KINDS(MOS_CHOICE_WORD) NULL};
static const char *const frames[] = {"8N1", "7E1", "7O1", "8E1", "8O1", "8N2", "7N2", NULL};
static const char *const purposes[] = {MOS_PURPOSES(MOS_CHOICE_WORD) NULL};
static const char *const log_ins[] = {MOS_STARTERS(MOS_CHOICE_WORD) NULL};
static const char *const user_spans[] = {MOS_USER_SPANS(MOS_CHOICE_WORD) NULL};
static const char *const first_ends[] = {MOS_FIRST_ENDS(MOS_CHOICE_WORD) NULL};
static const char *const network_forms[] = {MOS_NETWORK_FORMS(MOS_CHOICE_WORD) NULL};
static const char *const owners[] = {MOS_OWNERS(MOS_CHOICE_WORD) NULL};
static const char *const made_things[] = {MOS_MADES(MOS_CHOICE_WORD) NULL};
static const char *const compressions[] = {MOS_OUTPUT_FORMS(MOS_CHOICE_WORD) NULL};
static const char *const bases[] = {MOS_BASES(MOS_CHOICE_WORD) NULL};
static const char *const ways[] = {MOS_VIAS(MOS_CHOICE_WORD) NULL};
static const char *const stops[] = {MOS_UNTILS(MOS_CHOICE_WORD) NULL};
static const char *const ends[] = {MOS_OTHERWISES(MOS_CHOICE_WORD) NULL};
static const char *const moments[] = {MOS_MOMENTS(MOS_CHOICE_WORD) NULL};
static const char *const ramdisk_compressions[] = {MOS_RAMDISK_FORMS(MOS_CHOICE_WORD) NULL};
static const char *const packs[] = {MOS_PACKS(MOS_CHOICE_WORD) NULL};
static const char *const stage_formats[] = {MOS_STAGE_FORMS(MOS_CHOICE_WORD) NULL};
static const char *const statuses[] = {MOS_STATUSES(MOS_CHOICE_WORD) NULL};
static const char *const disks[] = {MOS_DISKS(MOS_CHOICE_WORD) NULL};
static const char *const part_hashes[] = {MOS_PART_SUMS(MOS_CHOICE_WORD) NULL};

KEYS(ram_keys, "RAM range", struct mos_ram,
     {"start", MOS_TYPE_ADDRESS, AT(struct mos_ram, start), "first address", .required = true},
     {"sizes", MOS_TYPE_LIST, AT(struct mos_ram, sizes), "fitted sizes; checked for the smallest",
      .of = MOS_TYPE_SIZE, .required = true});
KEYS(held_keys, "held range", struct mos_held,
     {"top", MOS_TYPE_SIZE, AT(struct mos_held, top), "that much at the end of RAM"},
     {"start", MOS_TYPE_ADDRESS, AT(struct mos_held, start), "first address"},
     {"size", MOS_TYPE_SIZE, AT(struct mos_held, size), "length from start"});
KEYS_BRIEF(console_keys, "console", struct mos_console, "port",
           {"port", MOS_TYPE_NAME, AT(struct mos_console, port),
            "the kernel's name of the port, or none", .required = true},
           {"node", MOS_TYPE_TEXT, AT(struct mos_console, node), "its device-tree node"},
           {"baud", MOS_TYPE_INTEGER, AT(struct mos_console, baud), "speed in bits a second"},
           {"loader-baud", MOS_TYPE_INTEGER, AT(struct mos_console, loader_baud),
            "speed of what comes before the kernel, where that is another one"},
           {"frame", MOS_TYPE_CHOICE, AT(struct mos_console, frame),
            "data bits, parity and stop bits; 8N1 if not given", .choices = frames},
           {"driver", MOS_TYPE_NAME, AT(struct mos_console, driver),
            "the kernel symbol of its driver; known of ttyAMA and ttyS"});
KEYS_BRIEF(unfitted_keys, "part that is not fitted", struct mos_unfitted, "node",
           {"node", MOS_TYPE_TEXT, AT(struct mos_unfitted, node),
            "its device-tree node, a path or an alias", .required = true});
KEYS_BRIEF(medium_size_keys, "medium size", struct mos_medium_size, "at-least",
           {"at-least", MOS_TYPE_SIZE, AT(struct mos_medium_size, at_least),
            "the smallest medium that may be used", .required = true},
           {"at-most", MOS_TYPE_SIZE, AT(struct mos_medium_size, at_most),
            "the largest one that is fitted"});
KEYS_BRIEF(area_keys, "area", struct mos_area, "size",
           {"size", MOS_TYPE_SIZE, AT(struct mos_area, size), "its size", .required = true});
KEYS(emmc_keys, "settings of an eMMC", struct mos_emmc,
     {"boots-from", MOS_TYPE_REFERENCE, AT(struct mos_emmc, boots_from),
      "the area that it hands to the ROM", .refers = MOS_REFERS_AREA},
     {"acknowledge", MOS_TYPE_BOOLEAN, AT(struct mos_emmc, acknowledge),
      "whether it says so before the data, as some ROMs want"},
     {"bus-width", MOS_TYPE_INTEGER, AT(struct mos_emmc, bus_width),
      "data lines while the ROM reads, 1, 4 or 8"},
     {"reset-pin", MOS_TYPE_BOOLEAN, AT(struct mos_emmc, reset_pin),
      "whether its reset pin works; can never be taken back"});
KEYS(medium_keys, "medium", struct mos_medium,
     {"kind", MOS_TYPE_CHOICE, AT(struct mos_medium, kind), "what it is", .choices = media_kinds,
      .required = true},
     {"size", MOS_TYPE_RECORD, AT(struct mos_medium, size), "its size", .record = &medium_size_keys,
      .required = true},
     {"erase", MOS_TYPE_SIZE, AT(struct mos_medium, erase), "erase unit; partitions align to it"},
     {"page", MOS_TYPE_SIZE, AT(struct mos_medium, page), "what a raw NAND writes at once"},
     {"flash-id", MOS_TYPE_TEXT, AT(struct mos_medium, flash_id),
      "a flash's name in the kernel's partition string, as in 4000000.flash"},
     {"correction", MOS_TYPE_TEXT, AT(struct mos_medium, correction),
      "the loader's command that sets a raw NAND's error correction, before it is programmed"},
     {"settings", MOS_TYPE_RECORD, AT(struct mos_medium, settings),
      "what an eMMC is told once: a set-up script for the loader is made of it",
      .record = &emmc_keys},
     {"sector", MOS_TYPE_SIZE, AT(struct mos_medium, sector), "sector size, 512 B or 4096 B"},
     {"loader", MOS_TYPE_TEXT, AT(struct mos_medium, loader), "the loader's name, as in \"mmc 0\""},
     {"kernel", MOS_TYPE_NAME, AT(struct mos_medium, kernel), "the kernel's name, as in mmcblk0"},
     {"node", MOS_TYPE_TEXT, AT(struct mos_medium, node), "its device-tree node"},
     {"areas", MOS_TYPE_NAMED, AT(struct mos_medium, areas),
      "parts beside the main one, such as an eMMC's boot0", .record = &area_keys});
KEYS(emulator_keys, "emulator", struct mos_emulator,
     {"loader", MOS_TYPE_REFERENCE, AT(struct mos_emulator, loader),
      "a loader that was built for the emulated machine; without one the kernel is handed over",
      .refers = MOS_REFERS_PIECE},
     {"disk", MOS_TYPE_CHOICE, AT(struct mos_emulator, disk),
      "what the media are there, virtio if not given", .choices = disks});
KEYS(hardware_keys, "hardware", struct mos_hardware,
     {"cpu", MOS_TYPE_CHOICE, AT(struct mos_hardware, cpu), "architecture", .choices = cpus},
     {"cores", MOS_TYPE_INTEGER, AT(struct mos_hardware, cores), "number of processor cores"},
     {"compatible", MOS_TYPE_TEXT, AT(struct mos_hardware, compatible), "the tree's compatible"},
     {"ram", MOS_TYPE_NAMED, AT(struct mos_hardware, ram), "RAM ranges", .record = &ram_keys},
     {"held", MOS_TYPE_NAMED, AT(struct mos_hardware, held), "RAM that belongs to somebody",
      .record = &held_keys},
     {"console", MOS_TYPE_RECORD, AT(struct mos_hardware, console), "the serial console",
      .record = &console_keys},
     {"media", MOS_TYPE_NAMED, AT(struct mos_hardware, media), "storage devices",
      .record = &medium_keys},
     {"unfitted", MOS_TYPE_NAMED, AT(struct mos_hardware, unfitted),
      "parts of the board's tree that this board or variant lacks", .record = &unfitted_keys},
     {"emulator", MOS_TYPE_RECORD, AT(struct mos_hardware, emulator),
      "how it is tried without hardware (show emulator)", .record = &emulator_keys});
KEYS(first_place_keys, "first-stage place", struct mos_first_place,
     {"at", MOS_TYPE_SIZE, AT(struct mos_first_place, at), "where the ROM reads it"},
     {"ends-at-top", MOS_TYPE_BOOLEAN, AT(struct mos_first_place, ends_at_top),
      "it reads the end of the medium: the region must end there"},
     {"file", MOS_TYPE_TEXT, AT(struct mos_first_place, file),
      "instead of a place: a file of the first FAT volume"},
     {"copies", MOS_TYPE_LIST, AT(struct mos_first_place, copies), "where it looks next",
      .of = MOS_TYPE_SIZE},
     {"limit", MOS_TYPE_SIZE, AT(struct mos_first_place, limit), "largest length it reads"},
     {"area", MOS_TYPE_REFERENCE, AT(struct mos_first_place, area), "in this area of the medium",
      .refers = MOS_REFERS_AREA});
KEYS(rom_keys, "rom", struct mos_rom,
     {"order", MOS_TYPE_LIST, AT(struct mos_rom, order), "media in the order they are tried",
      .of = MOS_TYPE_REFERENCE, .refers = MOS_REFERS_MEDIUM},
     {"tables", MOS_TYPE_LIST, AT(struct mos_rom, tables), "partition tables it can read",
      .of = MOS_TYPE_NAME},
     {"boot-mark", MOS_TYPE_BOOLEAN, AT(struct mos_rom, boot_mark),
      "it starts the partition that is marked bootable"},
     {"first-stage", MOS_TYPE_NAMED, AT(struct mos_rom, first_stage),
      "where the ROM looks on each medium", .record = &first_place_keys,
      .refers = MOS_REFERS_MEDIUM});
KEYS(stage_keys, "stage", struct mos_stage,
     {"piece", MOS_TYPE_REFERENCE, AT(struct mos_stage, piece), "its program",
      .refers = MOS_REFERS_PIECE, .required = true},
     {"by", MOS_TYPE_REFERENCE, AT(struct mos_stage, by), "who starts it: rom or a stage",
      .refers = MOS_REFERS_STAGE},
     {"from", MOS_TYPE_REFERENCE, AT(struct mos_stage, from), "the region it is read from",
      .refers = MOS_REFERS_REGION},
     {"limit", MOS_TYPE_SIZE, AT(struct mos_stage, limit), "largest size"},
     {"format", MOS_TYPE_CHOICE, AT(struct mos_stage, format),
      "its form; seen in its first bytes if not given", .choices = stage_formats},
     {"accepts", MOS_TYPE_LIST, AT(struct mos_stage, accepts),
      "forms of the next stage that it can start; any if not given", .of = MOS_TYPE_CHOICE,
      .choices = stage_formats});
KEYS_BRIEF(made_by_keys, "command", struct mos_made_by, "run",
           {"run", MOS_TYPE_LIST, AT(struct mos_made_by, run),
            "program and arguments; it writes the file that $MOSAICUM_OUT names",
            .of = MOS_TYPE_TEXT, .required = true},
           {"inputs", MOS_TYPE_LIST, AT(struct mos_made_by, inputs),
            "files and folders that it depends on", .of = MOS_TYPE_PATH},
           {"minutes", MOS_TYPE_INTEGER, AT(struct mos_made_by, minutes),
            "time limit, 10 if not given"});
KEYS_BRIEF(ramdisk_file_keys, "file of a ramdisk", struct mos_ramdisk_file, "to",
           {"to", MOS_TYPE_TEXT, AT(struct mos_ramdisk_file, to), "path in the ramdisk",
            .required = true},
           {"file", MOS_TYPE_PATH, AT(struct mos_ramdisk_file, file), "a file of the workspace"},
           {"in", MOS_TYPE_REFERENCE, AT(struct mos_ramdisk_file, in), "the archive it lies in",
            .refers = MOS_REFERS_PIECE},
           {"path", MOS_TYPE_TEXT, AT(struct mos_ramdisk_file, path), "path inside that archive"},
           {"text", MOS_TYPE_TEXT, AT(struct mos_ramdisk_file, text), "its text"},
           {"link", MOS_TYPE_TEXT, AT(struct mos_ramdisk_file, link), "what it is a link to"},
           {"device", MOS_TYPE_TEXT, AT(struct mos_ramdisk_file, device),
            "a device node, as in \"c 5 1\""},
           {"mode", MOS_TYPE_TEXT, AT(struct mos_ramdisk_file, mode),
            "permission bits, octal; 0644, or those of the archive, if not given"});
KEYS_BRIEF(ramdisk_modules_keys, "modules of a ramdisk", struct mos_ramdisk_modules, "names",
           {"in", MOS_TYPE_REFERENCE, AT(struct mos_ramdisk_modules, in),
            "the archive with lib/modules", .refers = MOS_REFERS_PIECE, .required = true},
           {"names", MOS_TYPE_LIST, AT(struct mos_ramdisk_modules, names),
            "modules; what they need comes with them", .of = MOS_TYPE_NAME, .required = true},
           {"order", MOS_TYPE_TEXT, AT(struct mos_ramdisk_modules, order),
            "the file that lists them in the order of loading, /load-order if not given"});
KEYS(ramdisk_keys, "ramdisk", struct mos_ramdisk,
     {"folder", MOS_TYPE_PATH, AT(struct mos_ramdisk, folder),
      "a folder of the workspace that goes in; files below win"},
     {"archive", MOS_TYPE_REFERENCE, AT(struct mos_ramdisk, archive),
      "a piece that is unpacked into it; files below win", .refers = MOS_REFERS_PIECE},
     {"only", MOS_TYPE_LIST, AT(struct mos_ramdisk, only), "of folder and archive just these paths",
      .of = MOS_TYPE_TEXT},
     {"except", MOS_TYPE_LIST, AT(struct mos_ramdisk, except),
      "of folder and archive not these paths", .of = MOS_TYPE_TEXT},
     {"files", MOS_TYPE_NAMED, AT(struct mos_ramdisk, files), "its files",
      .record = &ramdisk_file_keys},
     {"folders", MOS_TYPE_LIST, AT(struct mos_ramdisk, folders), "empty folders",
      .of = MOS_TYPE_TEXT},
     {"modules", MOS_TYPE_RECORD, AT(struct mos_ramdisk, modules), "its kernel modules",
      .record = &ramdisk_modules_keys},
     {"init", MOS_TYPE_BOOLEAN, AT(struct mos_ramdisk, init),
      "whether Mosaicum makes its /init: a shell script that loads the modules and goes on to the "
      "root"},
     {"compress", MOS_TYPE_CHOICE, AT(struct mos_ramdisk, compress), "gz if not given",
      .choices = ramdisk_compressions});
KEYS_BRIEF(
    packed_part_keys, "packed part", struct mos_packed_part, "piece",
    {"piece", MOS_TYPE_REFERENCE, AT(struct mos_packed_part, piece), "the piece",
     .refers = MOS_REFERS_PIECE, .required = true},
    {"at", MOS_TYPE_SIZE, AT(struct mos_packed_part, at),
     "offset in the file; behind the part before it if not given"},
    {"load", MOS_TYPE_ADDRESS, AT(struct mos_packed_part, load),
     "where it is put in RAM; legacy: where a kernel starts in this board's RAM if not given"},
    {"entry", MOS_TYPE_ADDRESS, AT(struct mos_packed_part, entry),
     "where it is started; load if not given"},
    {"type", MOS_TYPE_NAME, AT(struct mos_packed_part, type),
     "in a parcel: firmware, standalone, flat_dt …, firmware if not given; legacy: kernel or "
     "ramdisk, kernel if not given; contents: any word, stage, kernel, ramdisk or file if not "
     "given"},
    {"compress", MOS_TYPE_CHOICE, AT(struct mos_packed_part, compress),
     "contents: stored in gz, xz or zst; not at all if not given", .choices = compressions});
KEYS(packed_keys, "pack", struct mos_packed,
     {"as", MOS_TYPE_CHOICE, AT(struct mos_packed, as),
      "plain, one part behind the other; contents, the same behind a table with name, kind, place, "
      "compression and addresses of each; a parcel; or legacy: one part behind the loader's old "
      "header of 64 bytes; plain if not given",
      .choices = packs},
     {"compress", MOS_TYPE_CHOICE, AT(struct mos_packed, compress),
      "plain: the whole, legacy: the part, in gz, xz or zst; not at all if not given",
      .choices = compressions},
     {"image-name", MOS_TYPE_TEXT, AT(struct mos_packed, label),
      "legacy: the name in the header, the piece's if not given"},
     {"align", MOS_TYPE_SIZE, AT(struct mos_packed, align),
      "every part starts at a multiple of it, 512 B if not given"},
     {"table-at", MOS_TYPE_SIZE, AT(struct mos_packed, table_at),
      "plain: where the offset and length of each part stand, 32 bits each, little-endian"},
     {"starts", MOS_TYPE_NAME, AT(struct mos_packed, starts),
      "in a parcel: the part that is started, the others are only put in place; the first if not "
      "given"},
     {"parts", MOS_TYPE_NAMED, AT(struct mos_packed, parts), "what goes in, in order",
      .record = &packed_part_keys, .required = true});
KEYS_BRIEF(
    piece_keys, "piece", struct mos_piece, "file",
    {"file", MOS_TYPE_PATH, AT(struct mos_piece, file), "path in the workspace"},
    {"made-by", MOS_TYPE_RECORD, AT(struct mos_piece, made_by),
     "a command that makes it, run by build only", .record = &made_by_keys},
    {"ramdisk", MOS_TYPE_RECORD, AT(struct mos_piece, ramdisk),
     "a ramdisk that is made from this list", .record = &ramdisk_keys},
    {"packed", MOS_TYPE_RECORD, AT(struct mos_piece, packed), "other pieces packed into one",
     .record = &packed_keys},
    {"derived-from", MOS_TYPE_PATH, AT(struct mos_piece, derived_from),
     "the file that another program exported it from: pin keeps the hashes of both, so that a "
     "newer source is noticed"},
    {"in", MOS_TYPE_REFERENCE, AT(struct mos_piece, in), "the archive that contains it",
     .refers = MOS_REFERS_PIECE},
    {"path", MOS_TYPE_TEXT, AT(struct mos_piece, path), "path inside that archive"},
    {"sha256", MOS_TYPE_SHA256, AT(struct mos_piece, sha256), "pins its content"},
    {"size", MOS_TYPE_SIZE, AT(struct mos_piece, size), "its exact size"},
    {"follow", MOS_TYPE_BOOLEAN, AT(struct mos_piece, follow),
     "it changes on purpose: recorded, never pinned"},
    {"release", MOS_TYPE_TEXT, AT(struct mos_piece, release), "its version"},
    {"cpu", MOS_TYPE_CHOICE, AT(struct mos_piece, cpu), "the architecture it is made for",
     .choices = cpus},
    {"license", MOS_TYPE_TEXT, AT(struct mos_piece, license), "license identifier"},
    {"about", MOS_TYPE_TEXT, AT(struct mos_piece, about), "a word about it"});
KEYS_BRIEF(fragment_keys, "fragment", struct mos_fragment, "file",
           {"file", MOS_TYPE_PATH, AT(struct mos_fragment, file), "path in the workspace",
            .required = true},
           {"contradicts", MOS_TYPE_REFERENCE, AT(struct mos_fragment, contradicts),
            "an earlier fragment that it may contradict", .refers = MOS_REFERS_FRAGMENT});
KEYS(config_keys, "kernel configuration", struct mos_kernel_config,
     {"start", MOS_TYPE_PATH, AT(struct mos_kernel_config, start), "start configuration"},
     {"fragments", MOS_TYPE_NAMED, AT(struct mos_kernel_config, fragments),
      "fragments, merged in order", .record = &fragment_keys});
KEYS(kernel_keys, "kernel", struct mos_kernel,
     {"image", MOS_TYPE_REFERENCE, AT(struct mos_kernel, image), "the kernel's piece",
      .refers = MOS_REFERS_PIECE},
     {"release", MOS_TYPE_TEXT, AT(struct mos_kernel, release), "its release"},
     {"config", MOS_TYPE_RECORD, AT(struct mos_kernel, config), "its configuration",
      .record = &config_keys},
     {"source", MOS_TYPE_PATH, AT(struct mos_kernel, source),
      "the folder of its sources: they settle the configuration, and their bindings judge nodes"},
     {"compiler", MOS_TYPE_TEXT, AT(struct mos_kernel, compiler),
      "the compiler that they ask (gcc)"});
KEYS_BRIEF(blob_keys, "tree blob", struct mos_blob, "base",
           {"base", MOS_TYPE_PATH, AT(struct mos_blob, base), "source or blob in the workspace"},
           {"piece", MOS_TYPE_REFERENCE, AT(struct mos_blob, piece), "a piece that is a blob",
            .refers = MOS_REFERS_PIECE});
KEYS_BRIEF(overlay_keys, "overlay", struct mos_overlay, "file",
           {"file", MOS_TYPE_PATH, AT(struct mos_overlay, file), "source or blob",
            .required = true},
           {"when", MOS_TYPE_CHOICE, AT(struct mos_overlay, when),
            "applied at build, which is usual, or by the loader at boot", .choices = moments},
           {"one-of", MOS_TYPE_NAME, AT(struct mos_overlay, one_of),
            "at boot: at most one of those with the same name; the loader's variable of that name "
            "tells which"});
KEYS(tree_keys, "tree", struct mos_trees,
     {"includes", MOS_TYPE_LIST, AT(struct mos_trees, includes), "folders of included files",
      .of = MOS_TYPE_PATH},
     {"blobs", MOS_TYPE_NAMED, AT(struct mos_trees, blobs), "device-tree blobs",
      .record = &blob_keys},
     {"overlays", MOS_TYPE_NAMED, AT(struct mos_trees, overlays), "overlays, applied in order",
      .record = &overlay_keys});
KEYS_BRIEF(argument_keys, "argument", struct mos_argument, "values",
           {"values", MOS_TYPE_LIST, AT(struct mos_argument, values), "one or more values",
            .of = MOS_TYPE_TEXT});
KEYS(facts_keys, "loader facts", struct mos_facts,
     {"defaults", MOS_TYPE_PATH, AT(struct mos_facts, defaults),
      "its compiled-in environment: name=value lines, or its binary"},
     {"config", MOS_TYPE_PATH, AT(struct mos_facts, config), "the configuration it was built with"},
     {"tables", MOS_TYPE_LIST, AT(struct mos_facts, tables), "partition tables it can read",
      .of = MOS_TYPE_NAME},
     {"boot-mark", MOS_TYPE_BOOLEAN, AT(struct mos_facts, boot_mark),
      "it looks for the partition that is marked bootable"},
     {"symbols", MOS_TYPE_NAMED, AT(struct mos_facts, symbols),
      "single symbols of its configuration, as in CONFIG_CMD_BOOTI: y; they count more than the "
      "file",
      .record = &argument_keys},
     {"locked", MOS_TYPE_BOOLEAN, AT(struct mos_facts, locked), "it starts only what is signed"},
     {"watchdog", MOS_TYPE_INTEGER, AT(struct mos_facts, watchdog),
      "seconds after which the watchdog that it starts resets the board, unless the system takes "
      "it over"});
KEYS_BRIEF(variable_keys, "variable", struct mos_variable, "value",
           {"value", MOS_TYPE_TEXT, AT(struct mos_variable, value), "its text", .required = true});
KEYS(environment_keys, "environment", struct mos_environment,
     {"base", MOS_TYPE_CHOICE, AT(struct mos_environment, base), "what its values are added to",
      .choices = bases},
     {"size", MOS_TYPE_SIZE, AT(struct mos_environment, size), "size of the stored block",
      .required = true},
     {"flag-byte", MOS_TYPE_BOOLEAN, AT(struct mos_environment, flag_byte),
      "one byte after the sum, for stores with two copies"},
     {"values", MOS_TYPE_NAMED, AT(struct mos_environment, values), "variables",
      .record = &variable_keys},
     {"per-unit", MOS_TYPE_NAMED, AT(struct mos_environment, per_unit),
      "variables of each board's own, which `write --unit NAME` sets: `<UNIT>` is the name, "
      "`<UNIT:3>` the number at its end as 3 bytes, `00:00:07`",
      .record = &variable_keys});
KEYS(loader_keys, "loader", struct mos_loader,
     {"dialect", MOS_TYPE_NAME, AT(struct mos_loader, dialect), "the language of its scripts"},
     {"version", MOS_TYPE_TEXT, AT(struct mos_loader, version), "its version"},
     {"facts", MOS_TYPE_RECORD, AT(struct mos_loader, facts), "how it was built",
      .record = &facts_keys},
     {"config", MOS_TYPE_RECORD, AT(struct mos_loader, config),
      "what its configuration is made from, settled over its sources", .record = &config_keys},
     {"source", MOS_TYPE_PATH, AT(struct mos_loader, source), "the folder of its sources"},
     {"compiler", MOS_TYPE_TEXT, AT(struct mos_loader, compiler),
      "the compiler that they ask (gcc)"},
     {"environments", MOS_TYPE_NAMED, AT(struct mos_loader, environments), "stored environments",
      .record = &environment_keys});
KEYS(addresses_keys, "addresses", struct mos_entry_addresses,
     {"kernel", MOS_TYPE_ADDRESS, AT(struct mos_entry_addresses, kernel), "where it is loaded"},
     {"tree", MOS_TYPE_ADDRESS, AT(struct mos_entry_addresses, tree), "where it is loaded"},
     {"ramdisk", MOS_TYPE_ADDRESS, AT(struct mos_entry_addresses, ramdisk), "where it is loaded"});
KEYS(entry_keys, "boot entry", struct mos_boot_entry,
     {"kernel", MOS_TYPE_REFERENCE, AT(struct mos_boot_entry, kernel), "piece",
      .refers = MOS_REFERS_PIECE},
     {"tree", MOS_TYPE_REFERENCE, AT(struct mos_boot_entry, tree), "tree blob",
      .refers = MOS_REFERS_BLOB},
     {"ramdisk", MOS_TYPE_REFERENCE, AT(struct mos_boot_entry, ramdisk), "piece",
      .refers = MOS_REFERS_PIECE},
     {"addresses", MOS_TYPE_RECORD, AT(struct mos_boot_entry, addresses),
      "RAM addresses; chosen where not given", .record = &addresses_keys},
     {"flags", MOS_TYPE_LIST, AT(struct mos_boot_entry, flags), "arguments without a value",
      .of = MOS_TYPE_TEXT},
     {"arguments", MOS_TYPE_NAMED, AT(struct mos_boot_entry, arguments), "arguments with values",
      .record = &argument_keys});
KEYS_BRIEF(tree_choice_keys, "chosen tree", struct mos_tree_choice, "blob",
           {"blob", MOS_TYPE_REFERENCE, AT(struct mos_tree_choice, blob), "tree blob",
            .refers = MOS_REFERS_BLOB, .required = true});
KEYS(tree_choices_keys, "choice of trees", struct mos_tree_choices,
     {"variable", MOS_TYPE_NAME, AT(struct mos_tree_choices, variable),
      "the loader's variable that chooses", .required = true},
     {"values", MOS_TYPE_NAMED, AT(struct mos_tree_choices, values),
      "its values, and the tree for each; the entry's own for all others",
      .record = &tree_choice_keys});
KEYS(parcel_keys, "parcel", struct mos_parcel_def,
     {"hash", MOS_TYPE_CHOICE, AT(struct mos_parcel_def, hash),
      "sum of each part, sha256 if not given", .choices = part_hashes},
     {"key", MOS_TYPE_PATH, AT(struct mos_parcel_def, key),
      "private RSA key (PEM) that signs every entry"},
     {"sign-with", MOS_TYPE_LIST, AT(struct mos_parcel_def, sign_with),
      "instead of a key: program and arguments that hold it, run by build only; it reads the 32 "
      "bytes of a SHA-256 and writes the PKCS#1 v1.5 signature",
      .of = MOS_TYPE_TEXT},
     {"public-key", MOS_TYPE_PATH, AT(struct mos_parcel_def, public_key),
      "with sign-with: the public key (PEM) that its signatures must fit"},
     {"locks", MOS_TYPE_REFERENCE, AT(struct mos_parcel_def, locks),
      "the loader's piece: its own tree gets the public key, and it starts nothing else then",
      .refers = MOS_REFERS_PIECE},
     {"key-name", MOS_TYPE_NAME, AT(struct mos_parcel_def, key_name),
      "what the loader calls that key; the file's name if not given"},
     {"at", MOS_TYPE_ADDRESS, AT(struct mos_parcel_def, at),
      "where it is loaded; chosen if not given"});
KEYS(network_keys, "network boot", struct mos_network,
     {"automatic", MOS_TYPE_BOOLEAN, AT(struct mos_network, automatic),
      "whether the board asks the network for its address (and, where none is given, the server)"},
     {"address", MOS_TYPE_TEXT, AT(struct mos_network, address), "the board's own address"},
     {"netmask", MOS_TYPE_TEXT, AT(struct mos_network, netmask), "255.255.255.0 if not given"},
     {"gateway", MOS_TYPE_TEXT, AT(struct mos_network, gateway), "the way out of the subnet"},
     {"server", MOS_TYPE_TEXT, AT(struct mos_network, server), "the server that has the files"},
     {"folder", MOS_TYPE_TEXT, AT(struct mos_network, folder),
      "where they are there; the selector if not given"});
KEYS(boot_keys, "boot", struct mos_boot,
     {"via", MOS_TYPE_CHOICE, AT(struct mos_boot, via),
      "what the loader is given; stage: none runs, the stage before it starts the kernel by itself",
      .choices = ways},
     {"tries", MOS_TYPE_INTEGER, AT(struct mos_boot, tries),
      "starts without a confirmation before another entry comes first, 1 to 9"},
     {"otherwise", MOS_TYPE_CHOICE, AT(struct mos_boot, otherwise),
      "when no entry starts: the loader's prompt, or reset", .choices = ends},
     {"until", MOS_TYPE_CHOICE, AT(struct mos_boot, until),
      "how far this board is meant to come: log-in if not given", .choices = stops},
     {"timeout", MOS_TYPE_INTEGER, AT(struct mos_boot, timeout),
      "seconds that a menu waits, 0 if not given"},
     {"trees", MOS_TYPE_RECORD, AT(struct mos_boot, trees), "trees that are chosen at boot",
      .record = &tree_choices_keys},
     {"parcel", MOS_TYPE_RECORD, AT(struct mos_boot, parcel), "what a parcel is made of",
      .record = &parcel_keys},
     {"network", MOS_TYPE_RECORD, AT(struct mos_boot, network),
      "the same entries from a server: a script of its own is made for that",
      .record = &network_keys},
     {"entries", MOS_TYPE_NAMED, AT(struct mos_boot, entries), "ways to boot, the default first",
      .record = &entry_keys});
KEYS(settings_keys, "lines", struct mos_settings,
     {"form", MOS_TYPE_TEXT, AT(struct mos_settings, form),
      "how a line is written, \"<key>=<value>\" if not given"},
     {"comment", MOS_TYPE_TEXT, AT(struct mos_settings, comment),
      "what begins a comment, \"#\" if not given"},
     {"separator", MOS_TYPE_TEXT, AT(struct mos_settings, separator),
      "between several values of one line, a blank if not given"},
     {"files", MOS_TYPE_LIST, AT(struct mos_settings, files),
      "keys whose values are files of the volume", .of = MOS_TYPE_TEXT},
     {"overlays", MOS_TYPE_LIST, AT(struct mos_settings, overlays),
      "keys whose values are overlays, applied in the order of the lines", .of = MOS_TYPE_TEXT},
     {"console", MOS_TYPE_LIST, AT(struct mos_settings, console),
      "keys whose values name the port of the console", .of = MOS_TYPE_TEXT},
     {"arguments", MOS_TYPE_LIST, AT(struct mos_settings, arguments),
      "keys whose values are arguments of the kernel", .of = MOS_TYPE_TEXT},
     {"holds", MOS_TYPE_LIST, AT(struct mos_settings, holds),
      "sections ([NAME] on a line) that hold for this board; all if not given",
      .of = MOS_TYPE_TEXT});
KEYS(
    fill_keys, "fill", struct mos_fill,
    {"archive", MOS_TYPE_REFERENCE, AT(struct mos_fill, archive), "a piece that is unpacked",
     .refers = MOS_REFERS_PIECE},
    {"folder", MOS_TYPE_PATH, AT(struct mos_fill, folder), "a folder of the workspace"},
    {"piece", MOS_TYPE_REFERENCE, AT(struct mos_fill, piece), "a piece that becomes one file",
     .refers = MOS_REFERS_PIECE},
    {"made", MOS_TYPE_CHOICE, AT(struct mos_fill, made), "what Mosaicum makes",
     .choices = made_things},
    {"environment", MOS_TYPE_REFERENCE, AT(struct mos_fill, environment),
     "the loader's variables as a file, by the loader's own name for it if `to` is not given",
     .refers = MOS_REFERS_ENVIRONMENT},
    {"text", MOS_TYPE_TEXT, AT(struct mos_fill, text),
     "a text of your own, at `to`; <kernel>, <tree>, <ramdisk>, <overlays>, <arguments>, <console> "
     "and <REGION> stand for what the board has"},
    {"lines", MOS_TYPE_RECORD, AT(struct mos_fill, settings),
     "how a firmware reads the lines of that text, so that they are checked",
     .record = &settings_keys},
    {"to", MOS_TYPE_TEXT, AT(struct mos_fill, to), "path inside the volume"},
    {"only", MOS_TYPE_LIST, AT(struct mos_fill, only), "just these paths", .of = MOS_TYPE_TEXT},
    {"except", MOS_TYPE_LIST, AT(struct mos_fill, except), "not these paths", .of = MOS_TYPE_TEXT},
    {"replaces", MOS_TYPE_BOOLEAN, AT(struct mos_fill, replaces),
     "may replace what an earlier fill put there"},
    {"expects", MOS_TYPE_SHA256, AT(struct mos_fill, expects),
     "SHA-256 of the file that it replaces"});
KEYS(volume_keys, "volume", struct mos_volume,
     {"kind", MOS_TYPE_NAME, AT(struct mos_volume, kind), "file system", .required = true},
     {"label", MOS_TYPE_TEXT, AT(struct mos_volume, label), "volume label"},
     {"fills", MOS_TYPE_NAMED, AT(struct mos_volume, fills), "its content, in order",
      .record = &fill_keys, .behind = true},
     {"spare", MOS_TYPE_SHARE, AT(struct mos_volume, spare), "room that must stay free"},
     {"volume-id", MOS_TYPE_TEXT, AT(struct mos_volume, id),
      "its identifier; derived if not given"},
     {"unit", MOS_TYPE_SIZE, AT(struct mos_volume, unit),
      "allocation unit: a cluster of FAT, a block of ext4 or squashfs; chosen if not given"},
     {"reserved", MOS_TYPE_SHARE, AT(struct mos_volume, reserved),
      "room that only the system may use (ext4)"},
     {"inodes", MOS_TYPE_INTEGER, AT(struct mos_volume, inodes),
      "files that it can hold at least (ext4); chosen if not given"},
     {"journal", MOS_TYPE_BOOLEAN, AT(struct mos_volume, journal),
      "whether it keeps one (ext4); yes from 8 MiB on if not given"},
     {"compress", MOS_TYPE_CHOICE, AT(struct mos_volume, compress),
      "how its content is stored (squashfs): gz, xz or zst; gz if not given",
      .choices = compressions},
     {"nearly-full", MOS_TYPE_SHARE, AT(struct mos_volume, nearly_full),
      "warns when less is free and it is mounted to be written, 5% if not given"});
KEYS(region_keys, "region", struct mos_region,
     {"number", MOS_TYPE_INTEGER, AT(struct mos_region, number),
      "partition number; without it the region is in no table"},
     {"at", MOS_TYPE_SIZE, AT(struct mos_region, at), "offset on the medium"},
     {"size", MOS_TYPE_SPAN, AT(struct mos_region, size),
      "length, a share of what the medium has for regions, or rest"},
     {"owner", MOS_TYPE_CHOICE, AT(struct mos_region, owner), "who may change it later",
      .choices = owners},
     {"type", MOS_TYPE_TEXT, AT(struct mos_region, type), "partition type identifier"},
     {"bad-blocks", MOS_TYPE_SHARE, AT(struct mos_region, spare),
      "room kept for bad blocks of raw NAND"},
     {"partition-name", MOS_TYPE_TEXT, AT(struct mos_region, label),
      "partition name; the region's if not given"},
     {"bootable", MOS_TYPE_BOOLEAN, AT(struct mos_region, bootable), "the loader starts here"},
     {"attributes", MOS_TYPE_ADDRESS, AT(struct mos_region, attributes),
      "attribute bits of a GPT partition, as 0x…"},
     {"grows", MOS_TYPE_BOOLEAN, AT(struct mos_region, grows),
      "may grow into what is left of a larger medium; the last region only"},
     {"slots", MOS_TYPE_LIST, AT(struct mos_region, slots),
      "equal regions NAME-SLOT with rising numbers, one for each slot, as in [a, b]",
      .of = MOS_TYPE_NAME},
     {"area", MOS_TYPE_REFERENCE, AT(struct mos_region, area),
      "lies in this area of the medium, not in its main part", .refers = MOS_REFERS_AREA},
     {"partition-id", MOS_TYPE_TEXT, AT(struct mos_region, id),
      "its identifier; derived if not given"},
     {"stage", MOS_TYPE_REFERENCE, AT(struct mos_region, stage), "holds a stage",
      .refers = MOS_REFERS_STAGE},
     {"environment", MOS_TYPE_REFERENCE, AT(struct mos_region, environment),
      "holds a loader environment", .refers = MOS_REFERS_ENVIRONMENT},
     {"piece", MOS_TYPE_REFERENCE, AT(struct mos_region, piece), "holds a piece as it is",
      .refers = MOS_REFERS_PIECE},
     {"tree", MOS_TYPE_REFERENCE, AT(struct mos_region, tree), "holds a compiled tree as it is",
      .refers = MOS_REFERS_BLOB},
     {"volume", MOS_TYPE_RECORD, AT(struct mos_region, volume), "holds a file system",
      .record = &volume_keys});
KEYS(table_keys, "partition table", struct mos_table,
     {"kind", MOS_TYPE_NAME, AT(struct mos_table, kind), "kind of table", .required = true},
     {"partition-entries", MOS_TYPE_INTEGER, AT(struct mos_table, entries),
      "number of entries, 128 if not given"},
     {"partition-entries-at", MOS_TYPE_SIZE, AT(struct mos_table, entries_at),
      "where the entries of a GPT lie, to keep the early sectors free for a first stage"},
     {"disk-id", MOS_TYPE_TEXT, AT(struct mos_table, id), "its identifier; derived if not given"});
KEYS(layout_keys, "layout", struct mos_layout,
     {"gap-note", MOS_TYPE_SIZE, AT(struct mos_layout, gap_note),
      "unused spans above this are noted, 64 MiB if not given"},
     {"frozen", MOS_TYPE_PATH, AT(struct mos_layout, frozen),
      "the ledger of a release: numbers, starts and sizes must stay as it says"},
     {"table", MOS_TYPE_RECORD, AT(struct mos_layout, table), "its partition table",
      .record = &table_keys},
     {"regions", MOS_TYPE_NAMED, AT(struct mos_layout, regions), "spans, in order",
      .record = &region_keys, .behind = true});

KEYS(budget_keys, "budget", struct mos_budget,
     {"of", MOS_TYPE_LIST, AT(struct mos_budget, of), "pieces and regions that are counted",
      .of = MOS_TYPE_REFERENCE, .refers = MOS_REFERS_CONTENT, .required = true},
     {"limit", MOS_TYPE_SHARE, AT(struct mos_budget, limit),
      "most that they may take; a share is one of their regions", .required = true},
     {"warn", MOS_TYPE_SHARE, AT(struct mos_budget, warn),
      "warns above this share of the limit, 95% if not given"},
     {"grow-note", MOS_TYPE_SHARE, AT(struct mos_budget, grow_note),
      "notes growth since the last build above this share, 10% if not given"});
KEYS_BRIEF(output_keys, "output", struct mos_output, "compress",
           {"compress", MOS_TYPE_CHOICE, AT(struct mos_output, compress),
            "the image once more, compressed: gz, xz or zst", .choices = compressions},
           {"name", MOS_TYPE_TEXT, AT(struct mos_output, name),
            "a second name for it; <board>, <selector> and <release> stand for theirs"});
KEYS_BRIEF(mount_keys, "mount", struct mos_mount, "at",
           {"at", MOS_TYPE_TEXT, AT(struct mos_mount, at), "mount point", .required = true},
           {"kind", MOS_TYPE_NAME, AT(struct mos_mount, kind),
            "file system; of a region it is known"},
           {"what", MOS_TYPE_TEXT, AT(struct mos_mount, what),
            "what is mounted, where it is no region"},
           {"options", MOS_TYPE_LIST, AT(struct mos_mount, options), "mount options",
            .of = MOS_TYPE_TEXT});
KEYS(user_keys, "user", struct mos_user,
     {"number", MOS_TYPE_INTEGER, AT(struct mos_user, id), "number; 0 for root, else 1000 and up"},
     {"group", MOS_TYPE_INTEGER, AT(struct mos_user, group), "number of its group, as id"},
     {"home", MOS_TYPE_TEXT, AT(struct mos_user, home), "home folder"},
     {"shell", MOS_TYPE_TEXT, AT(struct mos_user, shell), "log-in program, /bin/sh"},
     {"password-hash", MOS_TYPE_TEXT, AT(struct mos_user, password_hash),
      "its password as crypt(5) hashes it"},
     {"password-file", MOS_TYPE_PATH, AT(struct mos_user, password_file),
      "a file, kept out of what is shared, whose first line is the password"},
     {"locked", MOS_TYPE_BOOLEAN, AT(struct mos_user, locked), "no log-in by password"},
     {"until", MOS_TYPE_CHOICE, AT(struct mos_user, until),
      "removed from the board by what ends this", .choices = user_spans},
     {"keys", MOS_TYPE_LIST, AT(struct mos_user, keys), "files with public keys that may log in",
      .of = MOS_TYPE_PATH});
KEYS_BRIEF(log_in_keys, "log-in", struct mos_log_in, "by",
           {"by", MOS_TYPE_CHOICE, AT(struct mos_log_in, by), "who starts it", .choices = log_ins,
            .required = true},
           {"terminal", MOS_TYPE_NAME, AT(struct mos_log_in, terminal),
            "kind of terminal, vt100 if not given"});
KEYS_BRIEF(first_start_keys, "first-start", struct mos_first_start, "by",
           {"by", MOS_TYPE_CHOICE, AT(struct mos_first_start, by), "who starts it",
            .choices = log_ins, .required = true},
           {"host-keys", MOS_TYPE_TEXT, AT(struct mos_first_start, host_keys),
            "made, or the program of the root that makes them; made if not given"},
           {"machine-id", MOS_TYPE_TEXT, AT(struct mos_first_start, machine_id),
            "made, or the program of the root that makes it; made if not given"},
           {"ends", MOS_TYPE_CHOICE, AT(struct mos_first_start, ends),
            "when its users are removed: next-start if not given, or by the command first-start "
            "end on the board",
            .choices = first_ends});
KEYS(wireless_keys, "wireless", struct mos_wireless,
     {"network", MOS_TYPE_TEXT, AT(struct mos_wireless, network), "name of the network (SSID)",
      .required = true},
     {"secret-file", MOS_TYPE_PATH, AT(struct mos_wireless, secret_file),
      "a file, kept out of what is shared, whose first line is the passphrase; none: an open "
      "network"},
     {"country", MOS_TYPE_TEXT, AT(struct mos_wireless, country),
      "two letters, whose rules for channels and power hold"});
KEYS_BRIEF(network_port_keys, "network port", struct mos_network_port, "address",
           {"address", MOS_TYPE_TEXT, AT(struct mos_network_port, address),
            "server, which is asked for one, or an IPv4 address with its prefix: 192.0.2.17/24",
            .required = true},
           {"gateway", MOS_TYPE_TEXT, AT(struct mos_network_port, gateway),
            "where everything else is sent"},
           {"name-servers", MOS_TYPE_LIST, AT(struct mos_network_port, name_servers),
            "who tells addresses of names", .of = MOS_TYPE_TEXT},
           {"wireless", MOS_TYPE_RECORD, AT(struct mos_network_port, wireless),
            "it is a radio, and joins this", .record = &wireless_keys});
KEYS(system_network_keys, "network", struct mos_system_network,
     {"form", MOS_TYPE_CHOICE, AT(struct mos_system_network, form),
      "whose files are written: /etc/network/interfaces, or those of systemd-networkd",
      .choices = network_forms, .required = true},
     {"by", MOS_TYPE_CHOICE, AT(struct mos_system_network, by),
      "who starts it, where nothing in the root does", .choices = log_ins},
     {"ports", MOS_TYPE_NAMED, AT(struct mos_system_network, ports),
      "settings, named after what the kernel calls each port", .record = &network_port_keys});
KEYS(system_keys, "system", struct mos_system,
     {"host-name", MOS_TYPE_TEXT, AT(struct mos_system, host_name),
      "the board's name if not given"},
     {"mounts", MOS_TYPE_NAMED, AT(struct mos_system, mounts),
      "the mount table, named after regions; of slots only /, the running one",
      .record = &mount_keys},
     {"users", MOS_TYPE_NAMED, AT(struct mos_system, users), "who may log in",
      .record = &user_keys},
     {"log-in", MOS_TYPE_RECORD, AT(struct mos_system, log_in),
      "log-in on the serial console; the root's own at other serial ports is put out of use",
      .record = &log_in_keys},
     {"loader-access", MOS_TYPE_BOOLEAN, AT(struct mos_system, loader_access),
      "the file that tells programs where the loader's environment is"},
     {"confirm", MOS_TYPE_CHOICE, AT(struct mos_system, confirm),
      "who tells the loader that a counted start went well", .choices = log_ins},
     {"other-slot", MOS_TYPE_BOOLEAN, AT(struct mos_system, other_slot),
      "a program, /usr/sbin/other-slot, by which the other of two entries starts next"},
     {"first-start", MOS_TYPE_RECORD, AT(struct mos_system, first_start),
      "what a board makes for itself when it starts for the first time",
      .record = &first_start_keys},
     {"network", MOS_TYPE_RECORD, AT(struct mos_system, network), "its network ports",
      .record = &system_network_keys},
     {"time-zone", MOS_TYPE_TEXT, AT(struct mos_system, time_zone),
      "a name below usr/share/zoneinfo of the root"});
KEYS(waiver_keys, "waiver", struct mos_waiver,
     {"rule", MOS_TYPE_TEXT, AT(struct mos_waiver, rule), "its rule", .required = true},
     {"place", MOS_TYPE_TEXT, AT(struct mos_waiver, place),
      "where: a path of keys, or a file and what stands there", .required = true},
     {"reason", MOS_TYPE_TEXT, AT(struct mos_waiver, reason), "why it is accepted",
      .required = true},
     {"until", MOS_TYPE_DATE, AT(struct mos_waiver, until), "the last day it holds"});
KEYS(needs_keys, "needs", struct mos_needs,
     {"symbols", MOS_TYPE_NAMED, AT(struct mos_needs, symbols),
      "kernel symbols and the values that will do", .record = &argument_keys},
     {"nodes", MOS_TYPE_LIST, AT(struct mos_needs, nodes),
      "device-tree nodes (path or &label) that must be there and enabled", .of = MOS_TYPE_TEXT},
     {"files", MOS_TYPE_LIST, AT(struct mos_needs, files), "files that a volume must hold",
      .of = MOS_TYPE_TEXT},
     {"arguments", MOS_TYPE_LIST, AT(struct mos_needs, arguments),
      "kernel arguments that the default entry must have", .of = MOS_TYPE_TEXT});
static const struct mos_keys use_keys = {.title = "use of a feature",
                                         .size = sizeof(struct mos_feature_use)};

KEYS_BRIEF(question_keys, "question", struct mos_question, "ask",
           {"ask", MOS_TYPE_TEXT, AT(struct mos_question, ask), "what is not known yet",
            .required = true},
           {"answer", MOS_TYPE_TEXT, AT(struct mos_question, answer),
            "the key that answers it once it is stated, as in hardware.console"});

/* What boards, traits, features and variants may all state. */
#define CONTENT(T)                                                                                 \
    {"hardware", MOS_TYPE_RECORD, AT(T, hardware), "what is soldered on",                          \
     .record = &hardware_keys},                                                                    \
        {"rom", MOS_TYPE_RECORD, AT(T, rom), "what the chip's ROM does", .record = &rom_keys},     \
        {"stages", MOS_TYPE_NAMED, AT(T, stages), "programs before the kernel",                    \
         .record = &stage_keys},                                                                   \
        {"pieces", MOS_TYPE_NAMED, AT(T, pieces), "outside files", .record = &piece_keys},         \
        {"kernel", MOS_TYPE_RECORD, AT(T, kernel), "the kernel", .record = &kernel_keys},          \
        {"tree", MOS_TYPE_RECORD, AT(T, tree), "device trees", .record = &tree_keys},              \
        {"loader", MOS_TYPE_RECORD, AT(T, loader), "the boot loader", .record = &loader_keys},     \
        {"boot", MOS_TYPE_RECORD, AT(T, boot), "how it boots", .record = &boot_keys},              \
        {"layout",                                                                                 \
         MOS_TYPE_NAMED,                                                                           \
         AT(T, layout),                                                                            \
         "what lies where on each medium",                                                         \
         .record = &layout_keys,                                                                   \
         .refers = MOS_REFERS_MEDIUM},                                                             \
        {"release", MOS_TYPE_TEXT, AT(T, release), "its release number, for names"},               \
        {"outputs",         MOS_TYPE_NAMED,         AT(T, outputs),                                \
         "how images ship", .record = &output_keys, .refers = MOS_REFERS_MEDIUM},                  \
        {"programming", MOS_TYPE_NAMED, AT(T, programming),                                        \
         "ways in which its soldered storage is written", .record = &mos_programming_keys},        \
        {"landmarks", MOS_TYPE_NAMED, AT(T, landmarks),                                            \
         "texts that come on its serial line when all is well", .record = &mos_landmark_keys},     \
        {"acceptance", MOS_TYPE_RECORD, AT(T, acceptance), "what is asked of a board that runs",   \
         .record = &mos_acceptance_keys},                                                          \
        {"serve", MOS_TYPE_NAMED, AT(T, serve),                                                    \
         "files that boards that run may fetch over the network", .record = &mos_serve_keys},      \
        {"system", MOS_TYPE_RECORD, AT(T, system), "what the root file system is told",            \
         .record = &system_keys},                                                                  \
        {"features",          MOS_TYPE_NAMED, AT(T, features), "capabilities from features/",      \
         .record = &use_keys, .listed = true},                                                     \
        {"questions", MOS_TYPE_NAMED, AT(T, questions),                                            \
         "what nobody could tell yet: check counts each", .record = &question_keys},               \
        {"budgets", MOS_TYPE_NAMED, AT(T, budgets), "size limits", .record = &budget_keys}, {      \
        "waivers", MOS_TYPE_NAMED, AT(T, waivers), "findings accepted on purpose",                 \
            .record = &waiver_keys                                                                 \
    }

KEYS(variant_keys, "variant", struct mos_variant,
     {"axis", MOS_TYPE_NAME, AT(struct mos_variant, axis),
      "at most one variant of an axis is chosen"},
     {"status", MOS_TYPE_CHOICE, AT(struct mos_variant, status),
      "retired: looked at only where it is named, and then with a warning", .choices = statuses},
     {"purpose", MOS_TYPE_CHOICE, AT(struct mos_variant, purpose), "bench, or field: what ships",
      .choices = purposes},
     {"about", MOS_TYPE_TEXT, AT(struct mos_variant, about), "a word about it"},
     {"traits", MOS_TYPE_LIST, AT(struct mos_variant, traits), "the traits it uses, in order",
      .of = MOS_TYPE_PATH},
     CONTENT(struct mos_variant));

FILE_KEYS(mos_board_keys, "board", struct mos_board, FORMAT(struct mos_board),
          {"board", MOS_TYPE_NAME, AT(struct mos_board, board), "the board's name",
           .required = true},
          {"about", MOS_TYPE_TEXT, AT(struct mos_board, about), "a word about it"},
          {"purpose", MOS_TYPE_CHOICE, AT(struct mos_board, purpose), "bench, or field: what ships",
           .choices = purposes},
          {"traits", MOS_TYPE_LIST, AT(struct mos_board, traits), "the traits it uses, in order",
           .of = MOS_TYPE_PATH},
          CONTENT(struct mos_board),
          {"variants", MOS_TYPE_NAMED, AT(struct mos_board, variants), "named sets of changes",
           .record = &variant_keys});
FILE_KEYS(mos_trait_keys, "trait", struct mos_trait, FORMAT(struct mos_trait),
          {"trait", MOS_TYPE_PATH, AT(struct mos_trait, trait), "the trait's name",
           .required = true},
          {"about", MOS_TYPE_TEXT, AT(struct mos_trait, about), "a word about it"},
          {"outside", MOS_TYPE_BOOLEAN, AT(struct mos_trait, outside),
           "not ours: on its own it raises no error"},
          {"traits", MOS_TYPE_LIST, AT(struct mos_trait, traits), "the traits it uses, in order",
           .of = MOS_TYPE_PATH},
          CONTENT(struct mos_trait),
          {"variants", MOS_TYPE_NAMED, AT(struct mos_trait, variants), "named sets of changes",
           .record = &variant_keys});
FILE_KEYS(mos_feature_keys, "feature", struct mos_feature, FORMAT(struct mos_feature),
          {"feature", MOS_TYPE_NAME, AT(struct mos_feature, feature), "the feature's name",
           .required = true},
          {"about", MOS_TYPE_TEXT, AT(struct mos_feature, about), "a word about it"},
          {"outside", MOS_TYPE_BOOLEAN, AT(struct mos_feature, outside),
           "not ours: on its own it raises no error"},
          {"replaces", MOS_TYPE_LIST, AT(struct mos_feature, replaces),
           "keys that count more than the board's own, as in hardware.console.port",
           .of = MOS_TYPE_TEXT},
          {"needs", MOS_TYPE_RECORD, AT(struct mos_feature, needs),
           "what must be there in the end for it to work", .record = &needs_keys},
          CONTENT(struct mos_feature));
FILE_KEYS(mos_waiver_file_keys, "file of waivers", struct mos_waiver_file,
          FORMAT(struct mos_waiver_file),
          {"waivers", MOS_TYPE_NAMED, AT(struct mos_waiver_file, waivers),
           "findings accepted on purpose", .record = &waiver_keys});

KEYS_BRIEF(pin_keys, "pin", struct mos_pin, "sha256",
           {"sha256", MOS_TYPE_SHA256, AT(struct mos_pin, sha256), "of the file", .required = true},
           {"size", MOS_TYPE_SIZE, AT(struct mos_pin, size), "of the file"},
           {"source", MOS_TYPE_SHA256, AT(struct mos_pin, source),
            "of what it was derived from then"});
FILE_KEYS(mos_pins_keys, "file of pins", struct mos_pins, FORMAT(struct mos_pins),
          {"pins", MOS_TYPE_NAMED, AT(struct mos_pins, pins), "files of pieces and their hashes",
           .record = &pin_keys});

static const struct mos_key root_rows[] = {
    {"folder", MOS_TYPE_TEXT, AT(struct mos_root_def, folder),
     "where it is: from the workspace, or absolute", .required = true}};
static const struct mos_keys root_keys = {.title = "root",
                                          .size = sizeof(struct mos_root_def),
                                          .keys = root_rows,
                                          .count = 1,
                                          .brief = "folder"};

static const struct mos_key workspace_rows[] = {
    {"mosaicum", MOS_TYPE_VERSION, AT(struct mos_workspace, mosaicum), "format of this file, 1",
     .required = true},
    {"workspace", MOS_TYPE_NAME, AT(struct mos_workspace, name), "seeds all derived identities",
     .required = true},
    {"date", MOS_TYPE_DATE, AT(struct mos_workspace, date), "the date of everything that is made"},
    {"usual", MOS_TYPE_LIST, AT(struct mos_workspace, usual),
     "selectors that check, build and list take when none is named", .of = MOS_TYPE_TEXT},
    {"combinations", MOS_TYPE_INTEGER, AT(struct mos_workspace, combinations),
     "the most combinations of variants that check looks at where none is named (10000)"},
    {"outside", MOS_TYPE_LIST, AT(struct mos_workspace, outside),
     "files and folders that are not ours: on their own they raise no error", .of = MOS_TYPE_PATH},
    {"roots", MOS_TYPE_NAMED, AT(struct mos_workspace, roots),
     "folders outside of the workspace that may be read, as <NAME>/… in paths",
     .record = &root_keys},
};
const struct mos_keys mos_workspace_keys = {.title = "workspace",
                                            .size = sizeof(struct mos_workspace),
                                            .keys = workspace_rows,
                                            .count =
                                                sizeof workspace_rows / sizeof *workspace_rows};
