#include "model/schema.h"

#define KEYS(symbol, what, type, ...)                                                              \
    static const struct mos_key symbol##_rows[] = {__VA_ARGS__};                                   \
    static const struct mos_keys symbol = {.title = what,                                          \
                                           .size = sizeof(type),                                   \
                                           .keys = symbol##_rows,                                  \
                                           .count = sizeof symbol##_rows / sizeof *symbol##_rows}
#define KEYS_BRIEF(symbol, what, type, short_form, ...)                                            \
    static const struct mos_key symbol##_rows[] = {__VA_ARGS__};                                   \
    static const struct mos_keys symbol = {.title = what,                                          \
                                           .size = sizeof(type),                                   \
                                           .keys = symbol##_rows,                                  \
                                           .count = sizeof symbol##_rows / sizeof *symbol##_rows,  \
                                           .brief = short_form}
#define AT(type, member) offsetof(type, member)

static const char *const cpus[] = {"arm64", NULL};
static const char *const media_kinds[] = {"sd", "disk", NULL};
static const char *const owners[] = {"build", "factory", "device", NULL};
static const char *const made_things[] = {"boot", NULL};
static const char *const bases[] = {"defaults", "none", NULL};
static const char *const ways[] = {"script", NULL};

KEYS(ram_keys, "RAM range", struct mos_ram,
     {"start", MOS_TYPE_ADDRESS, AT(struct mos_ram, start), "first address", .required = true},
     {"sizes", MOS_TYPE_LIST, AT(struct mos_ram, sizes), "fitted sizes; checked for the smallest",
      .of = MOS_TYPE_SIZE, .required = true});
KEYS(held_keys, "held range", struct mos_held,
     {"top", MOS_TYPE_SIZE, AT(struct mos_held, top), "that much at the end of RAM"},
     {"start", MOS_TYPE_ADDRESS, AT(struct mos_held, start), "first address"},
     {"size", MOS_TYPE_SIZE, AT(struct mos_held, size), "length from start"});
KEYS(console_keys, "console", struct mos_console,
     {"port", MOS_TYPE_NAME, AT(struct mos_console, port), "the kernel's name of the port",
      .required = true},
     {"node", MOS_TYPE_TEXT, AT(struct mos_console, node), "its device-tree node"},
     {"baud", MOS_TYPE_INTEGER, AT(struct mos_console, baud), "speed in bits a second"});
KEYS_BRIEF(medium_size_keys, "medium size", struct mos_medium_size, "at-least",
           {"at-least", MOS_TYPE_SIZE, AT(struct mos_medium_size, at_least),
            "the smallest medium that may be used", .required = true});
KEYS(medium_keys, "medium", struct mos_medium,
     {"kind", MOS_TYPE_CHOICE, AT(struct mos_medium, kind), "what it is", .choices = media_kinds,
      .required = true},
     {"size", MOS_TYPE_RECORD, AT(struct mos_medium, size), "its size", .record = &medium_size_keys,
      .required = true},
     {"erase", MOS_TYPE_SIZE, AT(struct mos_medium, erase), "erase unit; partitions align to it"},
     {"sector", MOS_TYPE_SIZE, AT(struct mos_medium, sector), "sector size, 512 B or 4096 B"},
     {"loader", MOS_TYPE_TEXT, AT(struct mos_medium, loader), "the loader's name, as in \"mmc 0\""},
     {"kernel", MOS_TYPE_NAME, AT(struct mos_medium, kernel), "the kernel's name, as in mmcblk0"},
     {"node", MOS_TYPE_TEXT, AT(struct mos_medium, node), "its device-tree node"});
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
      .record = &medium_keys});
KEYS(first_place_keys, "first-stage place", struct mos_first_place,
     {"at", MOS_TYPE_SIZE, AT(struct mos_first_place, at), "where the ROM reads it",
      .required = true},
     {"copies", MOS_TYPE_LIST, AT(struct mos_first_place, copies), "where it looks next",
      .of = MOS_TYPE_SIZE},
     {"limit", MOS_TYPE_SIZE, AT(struct mos_first_place, limit), "largest length it reads"});
KEYS(rom_keys, "rom", struct mos_rom,
     {"order", MOS_TYPE_LIST, AT(struct mos_rom, order), "media in the order they are tried",
      .of = MOS_TYPE_REFERENCE, .refers = MOS_REFERS_MEDIUM},
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
     {"limit", MOS_TYPE_SIZE, AT(struct mos_stage, limit), "largest size"});
KEYS_BRIEF(piece_keys, "piece", struct mos_piece, "file",
           {"file", MOS_TYPE_PATH, AT(struct mos_piece, file), "path in the workspace"},
           {"in", MOS_TYPE_REFERENCE, AT(struct mos_piece, in), "the archive that contains it",
            .refers = MOS_REFERS_PIECE},
           {"path", MOS_TYPE_TEXT, AT(struct mos_piece, path), "path inside that archive"},
           {"sha256", MOS_TYPE_SHA256, AT(struct mos_piece, sha256), "pins its content"},
           {"license", MOS_TYPE_TEXT, AT(struct mos_piece, license), "license identifier"},
           {"about", MOS_TYPE_TEXT, AT(struct mos_piece, about), "a word about it"});
KEYS_BRIEF(fragment_keys, "fragment", struct mos_fragment, "file",
           {"file", MOS_TYPE_PATH, AT(struct mos_fragment, file), "path in the workspace",
            .required = true},
           {"overrides", MOS_TYPE_REFERENCE, AT(struct mos_fragment, overrides),
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
      .record = &config_keys});
KEYS_BRIEF(blob_keys, "tree blob", struct mos_blob, "base",
           {"base", MOS_TYPE_PATH, AT(struct mos_blob, base), "source or blob in the workspace"},
           {"piece", MOS_TYPE_REFERENCE, AT(struct mos_blob, piece), "a piece that is a blob",
            .refers = MOS_REFERS_PIECE});
KEYS_BRIEF(overlay_keys, "overlay", struct mos_overlay, "file",
           {"file", MOS_TYPE_PATH, AT(struct mos_overlay, file), "source or blob",
            .required = true});
KEYS(tree_keys, "tree", struct mos_trees,
     {"includes", MOS_TYPE_LIST, AT(struct mos_trees, includes), "folders of included files",
      .of = MOS_TYPE_PATH},
     {"blobs", MOS_TYPE_NAMED, AT(struct mos_trees, blobs), "device-tree blobs",
      .record = &blob_keys},
     {"overlays", MOS_TYPE_NAMED, AT(struct mos_trees, overlays), "overlays, applied in order",
      .record = &overlay_keys});
KEYS(facts_keys, "loader facts", struct mos_facts,
     {"defaults", MOS_TYPE_PATH, AT(struct mos_facts, defaults),
      "its compiled-in environment, name=value lines"});
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
      .record = &variable_keys});
KEYS(loader_keys, "loader", struct mos_loader,
     {"dialect", MOS_TYPE_NAME, AT(struct mos_loader, dialect), "the language of its scripts"},
     {"version", MOS_TYPE_TEXT, AT(struct mos_loader, version), "its version"},
     {"facts", MOS_TYPE_RECORD, AT(struct mos_loader, facts), "how it was built",
      .record = &facts_keys},
     {"environments", MOS_TYPE_NAMED, AT(struct mos_loader, environments), "stored environments",
      .record = &environment_keys});
KEYS_BRIEF(argument_keys, "argument", struct mos_argument, "values",
           {"values", MOS_TYPE_LIST, AT(struct mos_argument, values), "one or more values",
            .of = MOS_TYPE_TEXT});
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
KEYS(boot_keys, "boot", struct mos_boot,
     {"via", MOS_TYPE_CHOICE, AT(struct mos_boot, via), "what the loader is given",
      .choices = ways},
     {"entries", MOS_TYPE_NAMED, AT(struct mos_boot, entries), "ways to boot, the default first",
      .record = &entry_keys});
KEYS(fill_keys, "fill", struct mos_fill,
     {"archive", MOS_TYPE_REFERENCE, AT(struct mos_fill, archive), "a piece that is unpacked",
      .refers = MOS_REFERS_PIECE},
     {"folder", MOS_TYPE_PATH, AT(struct mos_fill, folder), "a folder of the workspace"},
     {"piece", MOS_TYPE_REFERENCE, AT(struct mos_fill, piece), "a piece that becomes one file",
      .refers = MOS_REFERS_PIECE},
     {"made", MOS_TYPE_CHOICE, AT(struct mos_fill, made), "what Mosaicum makes",
      .choices = made_things},
     {"to", MOS_TYPE_TEXT, AT(struct mos_fill, to), "path inside the volume"},
     {"only", MOS_TYPE_LIST, AT(struct mos_fill, only), "just these paths", .of = MOS_TYPE_TEXT},
     {"except", MOS_TYPE_LIST, AT(struct mos_fill, except), "not these paths", .of = MOS_TYPE_TEXT},
     {"replaces", MOS_TYPE_BOOLEAN, AT(struct mos_fill, replaces),
      "may replace what an earlier fill put there"});
KEYS(volume_keys, "volume", struct mos_volume,
     {"kind", MOS_TYPE_NAME, AT(struct mos_volume, kind), "file system", .required = true},
     {"label", MOS_TYPE_TEXT, AT(struct mos_volume, label), "volume label"},
     {"fills", MOS_TYPE_NAMED, AT(struct mos_volume, fills), "its content, in order",
      .record = &fill_keys},
     {"spare", MOS_TYPE_SHARE, AT(struct mos_volume, spare), "room that must stay free"});
KEYS(region_keys, "region", struct mos_region,
     {"number", MOS_TYPE_INTEGER, AT(struct mos_region, number),
      "partition number; without it the region is in no table"},
     {"at", MOS_TYPE_SIZE, AT(struct mos_region, at), "offset on the medium"},
     {"size", MOS_TYPE_SPAN, AT(struct mos_region, size), "length, or rest"},
     {"owner", MOS_TYPE_CHOICE, AT(struct mos_region, owner), "who may change it later",
      .choices = owners},
     {"type", MOS_TYPE_TEXT, AT(struct mos_region, type), "partition type identifier"},
     {"label", MOS_TYPE_TEXT, AT(struct mos_region, label),
      "partition name; the region's if not given"},
     {"bootable", MOS_TYPE_BOOLEAN, AT(struct mos_region, bootable), "the loader starts here"},
     {"stage", MOS_TYPE_REFERENCE, AT(struct mos_region, stage), "holds a stage",
      .refers = MOS_REFERS_STAGE},
     {"environment", MOS_TYPE_REFERENCE, AT(struct mos_region, environment),
      "holds a loader environment", .refers = MOS_REFERS_ENVIRONMENT},
     {"piece", MOS_TYPE_REFERENCE, AT(struct mos_region, piece), "holds a piece as it is",
      .refers = MOS_REFERS_PIECE},
     {"volume", MOS_TYPE_RECORD, AT(struct mos_region, volume), "holds a file system",
      .record = &volume_keys});
KEYS(table_keys, "partition table", struct mos_table,
     {"kind", MOS_TYPE_NAME, AT(struct mos_table, kind), "kind of table", .required = true},
     {"entries", MOS_TYPE_INTEGER, AT(struct mos_table, entries),
      "number of entries, 128 if not given"});
KEYS(layout_keys, "layout", struct mos_layout,
     {"table", MOS_TYPE_RECORD, AT(struct mos_layout, table), "its partition table",
      .record = &table_keys},
     {"regions", MOS_TYPE_NAMED, AT(struct mos_layout, regions), "spans, in order",
      .record = &region_keys});

static const struct mos_key board_rows[] = {
    {"mosaicum", MOS_TYPE_VERSION, AT(struct mos_board, mosaicum), "format of this file, 1",
     .required = true},
    {"board", MOS_TYPE_NAME, AT(struct mos_board, board), "the board's name", .required = true},
    {"about", MOS_TYPE_TEXT, AT(struct mos_board, about), "a word about it"},
    {"hardware", MOS_TYPE_RECORD, AT(struct mos_board, hardware), "what is soldered on",
     .record = &hardware_keys},
    {"rom", MOS_TYPE_RECORD, AT(struct mos_board, rom), "what the chip's ROM does",
     .record = &rom_keys},
    {"stages", MOS_TYPE_NAMED, AT(struct mos_board, stages), "programs before the kernel",
     .record = &stage_keys},
    {"pieces", MOS_TYPE_NAMED, AT(struct mos_board, pieces), "outside files",
     .record = &piece_keys},
    {"kernel", MOS_TYPE_RECORD, AT(struct mos_board, kernel), "the kernel", .record = &kernel_keys},
    {"tree", MOS_TYPE_RECORD, AT(struct mos_board, tree), "device trees", .record = &tree_keys},
    {"loader", MOS_TYPE_RECORD, AT(struct mos_board, loader), "the boot loader",
     .record = &loader_keys},
    {"boot", MOS_TYPE_RECORD, AT(struct mos_board, boot), "how it boots", .record = &boot_keys},
    {"layout", MOS_TYPE_NAMED, AT(struct mos_board, layout), "what lies where on each medium",
     .record = &layout_keys, .refers = MOS_REFERS_MEDIUM},
};
const struct mos_keys mos_board_keys = {.title = "board",
                                        .size = sizeof(struct mos_board),
                                        .keys = board_rows,
                                        .count = sizeof board_rows / sizeof *board_rows};

static const struct mos_key workspace_rows[] = {
    {"mosaicum", MOS_TYPE_VERSION, AT(struct mos_workspace, mosaicum), "format of this file, 1",
     .required = true},
    {"workspace", MOS_TYPE_NAME, AT(struct mos_workspace, name), "seeds all derived identities",
     .required = true},
    {"date", MOS_TYPE_DATE, AT(struct mos_workspace, date), "the date of everything that is made"},
};
const struct mos_keys mos_workspace_keys = {.title = "workspace",
                                            .size = sizeof(struct mos_workspace),
                                            .keys = workspace_rows,
                                            .count =
                                                sizeof workspace_rows / sizeof *workspace_rows};
