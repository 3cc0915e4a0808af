/* What the loader prints about an image: its header, its parts (iminfo, bootm; version 2023.01). */
#include "loaders/u-boot/boot.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

enum { MULTI = 4, SCRIPT = 6 };

/* ---- small texts ---- */

/* "1020 Bytes = 1020 Bytes", "3612 Bytes = 3.5 KiB" */
static void print_size(struct sim *s, uint64_t size) {
    static const char units[] = "EPTGMK";
    unsigned shift = 60;
    const char *unit = units;
    for (; *unit && !(size >> shift); unit++)
        shift -= 10;
    if (!*unit) {
        sim_print(s, "%llu Bytes = %llu Bytes\n", (unsigned long long)size,
                  (unsigned long long)size);
        return;
    }
    uint64_t whole = size >> shift, part = size & (((uint64_t)1 << shift) - 1);
    uint64_t tenths = part ? (10 * part + ((uint64_t)1 << (shift - 1))) >> shift : 0;
    if (tenths >= 10) {
        tenths -= 10;
        whole++;
    }
    sim_print(s, "%llu Bytes = %llu", (unsigned long long)size, (unsigned long long)whole);
    if (tenths)
        sim_print(s, ".%llu", (unsigned long long)tenths);
    sim_print(s, " %ciB\n", *unit);
}

static void print_time(struct sim *s, uint32_t seconds) {
    int64_t year, month, day;
    unsigned rest = seconds % 86400;
    mos_date_of_days(seconds / 86400, &year, &month, &day);
    sim_print(s, "%4d-%02d-%02d  %2u:%02u:%02u UTC\n", (int)year, (int)month, (int)day, rest / 3600,
              rest / 60 % 60, rest % 60);
}

static const char *named(const char *const rows[][2], const char *name, const char *otherwise) {
    for (size_t i = 0; name && rows[i][0]; i++)
        if (strcmp(rows[i][0], name) == 0)
            return rows[i][1];
    return otherwise;
}

/* ---- legacy images ---- */

static const char *cpu_of(unsigned code) {
    return code == 2    ? "ARM"
           : code == 22 ? "AArch64"
           : code == 26 ? "RISC-V"
                        : "Unknown Architecture";
}

void ub_list_legacy(struct sim *s, uint64_t at, const struct mos_legacy *h) {
    static const char *const types[] = {"Invalid Image", "Standalone Program", "Kernel Image",
                                        "RAMDisk Image", "Multi-File Image",   "Firmware",
                                        "Script",        "Filesystem Image",   "Flat Device Tree"};
    static const char *const kinds[] = {"uncompressed",    "gzip compressed", "bzip2 compressed",
                                        "lzma compressed", "lzo compressed",  "lz4 compressed",
                                        "zstd compressed"};
    sim_print(s, "   Image Name:   %s\n   Created:      ", h->name);
    print_time(s, h->time);
    sim_print(s, "   Image Type:   %s %s %s (%s)\n   Data Size:    ", cpu_of(h->cpu),
              h->os == 5 ? "Linux" : "Unknown OS",
              h->type < sizeof types / sizeof *types ? types[h->type] : "Unknown Image",
              h->compression < sizeof kinds / sizeof *kinds ? kinds[h->compression]
                                                            : "unknown compression");
    print_size(s, h->size);
    sim_print(s, "   Load Address: %08x\n   Entry Point:  %08x\n", h->load, h->entry);
    if (h->type != MULTI && h->type != SCRIPT)
        return;
    sim_print(s, "   Contents:\n");
    uint64_t offset = at + MOS_LEGACY_HEADER;
    for (unsigned i = 0;; i++, offset += 4) {
        uint8_t word[4] = {0};
        sim_ram_read(s, offset, word, 4);
        if (!mos_be32(word) || offset - at > h->size)
            break;
        sim_print(s, "      Image %u: ", i);
        print_size(s, mos_be32(word));
    }
}

/* ---- parcels ---- */

static void print_stamp(struct sim *s, const struct mos_dt_node *node) {
    const struct mos_dt_property *p = mos_dt_property(node, "timestamp");
    if (p && p->length == 4)
        print_time(s, mos_be32(p->data));
    else
        sim_print(s, "unavailable\n");
}

static const char *text_of(const struct mos_dt_node *node, const char *name) {
    const struct mos_dt_property *p = mos_dt_property(node, name);
    return p && p->length && !p->data[p->length - 1] ? (const char *)p->data : NULL;
}

/* Sums and signatures of a part or a choice. */
static void list_sums(struct sim *s, const struct mos_dt_node *of) {
    for (const struct mos_dt_node *n = of->first_child; n; n = n->next) {
        bool sum = strncmp(n->name, "hash", 4) == 0, sign = strncmp(n->name, "signature", 9) == 0;
        if (!sum && !sign)
            continue;
        const char *word = sum ? "Hash" : "Sign", *algo = text_of(n, "algo"),
                   *key = text_of(n, "key-name-hint"), *padding = text_of(n, "padding");
        const struct mos_dt_property *value = mos_dt_property(n, "value");
        sim_print(s, "     %s algo:    %s%s%s%s\n", word, algo ? algo : "invalid/unsupported",
                  key ? ":" : "", key ? key : "",
                  mos_dt_property(n, "required") ? " (required)" : "");
        if (padding)
            sim_print(s, "     %s padding: %s\n", word, padding);
        sim_print(s, "     %s value:   ", word);
        for (size_t i = 0; value && i < value->length; i++)
            sim_print(s, "%02x", value->data[i]);
        sim_print(s, value ? "\n" : "unavailable\n");
        if (key) {
            sim_print(s, "     Timestamp:    ");
            print_stamp(s, n);
        }
    }
}

static void print_address(struct sim *s, const char *word, bool has, uint64_t at) {
    if (has)
        sim_print(s, "     %s0x%08llx\n", word, (unsigned long long)at);
    else
        sim_print(s, "     %sunavailable\n", word);
}

void ub_list_part(struct sim *s, const struct mos_parcel_part *part, uint64_t data_at) {
    static const char *const types[][2] = {
        {"kernel", "Kernel Image"},    {"flat_dt", "Flat Device Tree"},
        {"ramdisk", "RAMDisk Image"},  {"script", "Script"},
        {"firmware", "Firmware"},      {"standalone", "Standalone Program"},
        {"multi", "Multi-File Image"}, {NULL, NULL}};
    static const char *const kinds[][2] = {
        {"none", "uncompressed"},      {"gzip", "gzip compressed"},
        {"bzip2", "bzip2 compressed"}, {"lzma", "lzma compressed"},
        {"lzo", "lzo compressed"},     {"lz4", "lz4 compressed"},
        {"zstd", "zstd compressed"},   {NULL, NULL}};
    static const char *const cpus[][2] = {{"arm", "ARM"},
                                          {"arm64", "AArch64"},
                                          {"riscv", "RISC-V"},
                                          {"x86_64", "AMD x86_64"},
                                          {NULL, NULL}};
    static const char *const systems[][2] = {
        {"linux", "Linux"}, {"u-boot", "U-Boot"}, {NULL, NULL}};
    const char *type = part->type ? part->type : "";
    bool kernel = strcmp(type, "kernel") == 0 || strcmp(type, "standalone") == 0,
         disk = strcmp(type, "ramdisk") == 0, tree = strcmp(type, "flat_dt") == 0,
         firmware = strcmp(type, "firmware") == 0;
    sim_print(
        s, "     Description:  %s\n     Created:      ", part->about ? part->about : "unavailable");
    const struct mos_dt_node *root = part->node;
    while (root->parent)
        root = root->parent;
    print_stamp(s, root);
    sim_print(s, "     Type:         %s\n     Compression:  %s\n",
              named(types, part->type, "Unknown Image"),
              named(kinds, part->compression ? part->compression : "none", "unknown compression"));
    if (part->data) {
        sim_print(s,
                  "     Data Start:   0x%08llx\n     Data Size:    ", (unsigned long long)data_at);
        print_size(s, part->length);
    } else {
        sim_print(s, "     Data Start:   unavailable\n     Data Size:    unavailable\n");
    }
    if (kernel || disk || tree || firmware)
        sim_print(s, "     Architecture: %s\n", named(cpus, part->cpu, "Unknown Architecture"));
    if (kernel || disk)
        sim_print(s, "     OS:           %s\n", named(systems, part->os, "Unknown OS"));
    if (kernel || disk || firmware || (tree && part->has_load))
        print_address(s, "Load Address: ", part->has_load, part->load);
    if (kernel || disk)
        print_address(s, "Entry Point:  ", part->has_entry, part->entry);
    list_sums(s, part->node);
}

static void list_names(struct sim *s, const char *word, const struct mos_vec *names) {
    for (size_t i = 0; i < names->count; i++)
        sim_print(s, "     %s%s\n", i ? "              " : word,
                  (const char *)mos_vec_pointer(names, i));
}

static void list_choice(struct sim *s, const struct mos_parcel_choice *c) {
    sim_print(s, "     Description:  %s\n     Kernel:       %s\n",
              c->about ? c->about : "unavailable", c->kernel ? c->kernel : "unavailable");
    if (c->ramdisk)
        sim_print(s, "     Init Ramdisk: %s\n", c->ramdisk);
    if (c->firmware)
        sim_print(s, "     Firmware:     %s\n", c->firmware);
    list_names(s, "FDT:          ", &c->trees);
    list_names(s, "Loadables:    ", &c->loadables);
    list_sums(s, c->node);
}

int ub_list_parcel(struct sim *s, const struct mos_parcel *p, uint64_t at) {
    const char *about = text_of(p->dt->root, "description"), *names;
    sim_print(s, "   FIT image found\n   FIT description: %s\n   Created:         ",
              about ? about : "unavailable");
    print_stamp(s, p->dt->root);
    for (size_t i = 0; i < p->parts.count; i++) {
        const struct mos_parcel_part *part = mos_vec_at(&p->parts, i);
        sim_print(s, "    Image %zu (%s)\n", i, part->name);
        ub_list_part(s, part, part->data ? at + (uint64_t)(part->data - p->bytes) : 0);
    }
    if (p->usual)
        sim_print(s, "    Default Configuration: '%s'\n", p->usual);
    for (size_t i = 0; i < p->choices.count; i++) {
        const struct mos_parcel_choice *c = mos_vec_at(&p->choices, i);
        sim_print(s, "    Configuration %zu (%s)\n", i, c->name);
        list_choice(s, c);
    }
    sim_print(s, "## Checking hash(es) for FIT Image at %08llx ...\n", (unsigned long long)at);
    for (size_t i = 0; i < p->parts.count; i++) {
        const struct mos_parcel_part *part = mos_vec_at(&p->parts, i);
        bool good = mos_parcel_check_part(s->arena, part, &names);
        sim_print(s, "   Hash(es) for Image %zu (%s): %s", i, part->name, names);
        if (!good)
            return sim_trouble(s, "error!\nBad hash in FIT image!");
        sim_print(s, "\n");
    }
    return 0;
}
