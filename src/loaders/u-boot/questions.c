/* What is asked of the loader at its prompt, and what its answers say of how it was built.  Nothing
 * that is asked here writes: the last test of tests/unit/learning.c holds the commands against
 * that.
 */
#include "base/text.h"
#include "learning/learned.h"
#include "loaders/u-boot/u-boot.h"

#include <stdlib.h>
#include <string.h>

enum { SOON = 3, LONG = 20, SECTOR = 512, CHECKSUM = 4, MOST_DEVICES = 16 };

static bool has(const struct mos_learned *l, const char *command) {
    return mos_map_get(&l->commands, command) != NULL;
}

static const char *yes(bool is) {
    return is ? "y" : "n";
}

/* Is the word in a list as "fat, ext4"? */
static bool in_list(const char *list, const char *word) {
    size_t n = strlen(word);
    for (const char *p = list; (p = strstr(p, word)); p += n)
        if ((p == list || p[-1] == ' ' || p[-1] == ',') && (!p[n] || p[n] == ',' || p[n] == ' '))
            return true;
    return false;
}

static const char *symbol_of(const struct mos_loader_command *rows, const char *name) {
    while (rows->name && strcmp(rows->name, name) != 0)
        rows++;
    return rows->symbol;
}

static void learn_cpu(struct mos_learned *l, const char *cpu, const struct mos_asked *q) {
    l->cpu = cpu;
    mos_learned_symbol(l, symbol_of(l->dialect->processors, cpu), "y", q);
    mos_learned_fact(l, "processor", cpu, q);
}

/* ---- its variables ---- */

/* Whatever is a board's own, or comes and goes while it runs, is not compiled into it. */
static bool is_passing(const char *name) {
    static const char *const names[] = {"bootargs",       "bootp_vci",   "ethact",    "ethaddr",
                                        "eth1addr",       "eth2addr",    "eth3addr",  "fdtaddr",
                                        "fileaddr",       "filesize",    "serial#",   "usbethaddr",
                                        "fdtcontroladdr", "mmc_bootdev", "stdin",     "stdout",
                                        "stderr",         "ver",         "bootstage", NULL};
    for (const char *const *p = names; *p; p++)
        if (strcmp(*p, name) == 0)
            return true;
    return false;
}

/* "name=" at a line's begin: how many characters the name has; 0: it is no variable's begin. */
static size_t name_length(const char *line) {
    size_t n = strcspn(line, "= \t\n");
    return line[n] == '=' ? n : 0;
}

/* "Environment size: 4511/262140 bytes": what a block has room for, without what heads it. */
static void learn_room(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    const char *p = strstr(answer, "Environment size: "), *slash = p ? strchr(p, '/') : NULL;
    unsigned long long room = slash ? strtoull(slash + 1, NULL, 10) : 0, size = room + CHECKSUM;
    bool flag = size % SECTOR == SECTOR - 1;
    size += flag;
    if (!room || size % SECTOR)
        return;
    mos_learned_symbol(l, l->dialect->symbols.environment_size,
                       mos_printf(l->arena, "0x%llx", size), q);
    mos_learned_symbol(l, l->dialect->symbols.flag_byte, yes(flag), q);
    mos_learned_fact(l, "size of the environment",
                     mos_printf(l->arena, "%s, %s", mos_size_text(l->arena, size),
                                flag ? "two copies" : "one copy"),
                     q);
}

static void learn_variables(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    const char *end = strstr(answer, "\nEnvironment size: ");
    struct mos_map found = mos_map_make(l->arena);
    struct mos_buf value = {.arena = l->arena};
    const char *name = NULL;
    if (!end) {
        mos_learned_unknown(l, "its variables: their list has no end");
        return;
    }
    for (const char *p = answer; p < end; p = mos_next_line(p)) {
        size_t n = name_length(p), length = strcspn(p, "\n");
        if (n) {
            name = mos_strndup(l->arena, p, n);
            mos_map_set_const(&found, name, mos_strndup(l->arena, p + n + 1, length - n - 1));
        } else if (name && length) { /* a value of several lines */
            value.length = 0;
            mos_buf_printf(&value, "%s\n%.*s", (const char *)mos_map_get(&found, name), (int)length,
                           p);
            mos_map_set_const(&found, name, mos_strdup(l->arena, mos_buf_string(&value)));
        }
    }
    for (size_t i = 0; i < found.count; i++)
        if (!is_passing(found.items[i].key))
            mos_map_set(&l->variables, found.items[i].key, found.items[i].value);
    mos_learned_fact(l, "variables", mos_printf(l->arena, "%zu", l->variables.count), q);
    learn_room(l, q, answer);
    const char *arch = mos_map_get(&found, "arch"), *cpu = mos_map_get(&found, "cpu");
    if (!l->cpu && arch && strcmp(arch, "arm") == 0) /* its compiler did not tell */
        learn_cpu(l, cpu && strcmp(cpu, "armv8") == 0 ? "arm64" : "arm", q);
    const char *wait = mos_map_get(&found, l->dialect->symbols.waits);
    if (wait)
        mos_learned_symbol(l, l->dialect->symbols.starts_by_itself, yes(atoi(wait) >= 0), q);
}

/* ---- the board ---- */

static const char *hex_behind(const char *answer, const char *key, uint64_t *out) {
    const char *p = strstr(answer, key);
    p = p ? strstr(p, "0x") : NULL;
    if (p)
        *out = strtoull(p, NULL, 16);
    return p;
}

/* "-> start    = 0x…", "-> size     = 0x…", a pair for each bank; the first has some RAM. */
static void learn_board(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    for (const char *p = answer; (p = strstr(p, "DRAM bank")); p++) {
        uint64_t start = 0, size = 0;
        const char *s = hex_behind(p, "-> start", &start), *z = hex_behind(p, "-> size", &size);
        if (s && z)
            mos_learned_ram(l, start, size, q);
    }
    if (!l->ram.count)
        mos_learned_unknown(l, "its RAM: bdinfo tells of none");
    struct mos_order order = {.deed = MOS_ORDER_MEMORY};
    struct mos_order_told told = {0};
    const struct mos_told_span *first = l->ram.count ? mos_vec_at(&l->ram, 0) : NULL;
    if (first && !ub_orders.understand(&order, 0, answer, &told) && told.to > first->start &&
        told.to < first->start + first->length) {
        l->held = first->start + first->length - told.to;
        mos_learned_fact(l, "RAM that the loader has",
                         mos_printf(l->arena, "%s at its end", mos_size_about(l->arena, l->held)),
                         q);
    }
    const char *baud = mos_learned_behind(l->arena, answer, "baudrate    =");
    if (baud && atoi(baud))
        mos_learned_symbol(l, l->dialect->symbols.baud, mos_printf(l->arena, "%d", atoi(baud)), q);
}

/* compatible = "one", "two" */
static void learn_tree(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    const char *quote = strchr(answer, '"'), *end = quote ? strchr(quote + 1, '"') : NULL;
    if (!end)
        return;
    const char *text = mos_strndup(l->arena, quote + 1, (size_t)(end - quote) - 1);
    if (strcmp(q->word, "compatible") == 0)
        l->compatible = text;
    else
        l->model = text;
    mos_learned_fact(l, q->word, text, q);
}

/* ---- storage ---- */

/* "fat", "ext4": of a partition that has a file system which it can read. */
static void learn_volume(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    struct mos_told_medium *m = mos_learned_medium(l, q->word, NULL);
    struct mos_told_partition *t = mos_vec_at(&m->partitions, q->number);
    size_t n = strspn(answer, "abcdefghijklmnopqrstuvwxyz0123456789");
    if (n && answer[n] == '\n')
        t->fs = mos_strndup(l->arena, answer, n);
}

static void learn_table(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    struct mos_told_medium *m = mos_learned_medium(l, q->word, NULL);
    const char *type = mos_learned_behind(l->arena, answer, "Partition Type:");
    bool gpt = type && strcmp(type, "EFI") == 0, mbr = type && strcmp(type, "DOS") == 0;
    if (!gpt && !mbr)
        return;
    m->table = gpt ? "gpt" : "mbr";
    m->table_asked = q->command;
    for (const char *p = strstr(answer, "Part\t"); p && *p; p = mos_next_line(p)) {
        char *end;
        unsigned long number = strtoul(p + strspn(p, " "), &end, 10);
        if (!number || *end != '\t') {
            const char *word = strstr(p, "type:\t");
            if (m->partitions.count && word && word < p + strcspn(p, "\n"))
                ((struct mos_told_partition *)mos_vec_at(&m->partitions, m->partitions.count - 1))
                    ->type = mos_learned_behind(l->arena, p, "type:\t");
            continue;
        }
        uint64_t start = strtoull(end + 1, &end, 0), last = strtoull(end, &end, 0);
        struct mos_told_partition *t = mos_learned_partition(
            m, number, start * SECTOR, (gpt ? last - start + 1 : last) * SECTOR);
        if (!t)
            continue;
        const char *quote = gpt ? strchr(end, '"') : NULL;
        size_t line = strcspn(end, "\n");
        if (quote && quote < end + line)
            t->name = mos_strndup(l->arena, quote + 1, strcspn(quote + 1, "\"\n"));
        for (size_t i = line; mbr && i; i--) /* "83", "0c Boot": the last column */
            if (end[i - 1] == '\t') {
                t->type = mos_printf(l->arena, "0x%.2s", end + i);
                t->bootable = strncmp(end + i + 2, " Boot", 5) == 0;
                break;
            }
    }
    for (size_t i = 0; has(l, "fstype") && i < m->partitions.count; i++) {
        const struct mos_told_partition *t = mos_vec_at(&m->partitions, i);
        mos_learned_ask(l, mos_printf(l->arena, "fstype %s:%u", q->word, t->number), SOON,
                        learn_volume, q->word, (unsigned)i);
    }
}

static const char *const kinds_of_mmc[] = {"emmc", "sd"};

static void ask_identity(struct mos_learned *l, const char *medium, unsigned index);

/* Each question follows from the answer to the one before: about a device that is not there, the
 * loader would tell of another. */
static void learn_medium(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    struct mos_order order = {.deed = MOS_ORDER_IDENTIFY, .medium = q->word};
    struct mos_order_told told = {0};
    if (ub_orders.understand(&order, q->number, answer, &told))
        return;
    if ((told.size && told.size < (uint64_t)1 << 60) || *told.name) {
        struct mos_told_medium *m = mos_learned_medium(l, q->word, NULL);
        m->size = told.size ? told.size : m->size;
        m->blur = told.size ? told.blur : m->blur;
        m->name = *told.name ? mos_strdup(l->arena, told.name) : m->name;
        m->asked = m->asked ? m->asked : q->command;
        for (size_t i = 0; i < 2 && !m->kind && strncmp(q->word, "mmc", 3) == 0; i++)
            if (strstr(answer, i ? "SD version" : "Boot Capacity"))
                m->kind = kinds_of_mmc[i];
        if (strncmp(q->word, "sf", 2) == 0)
            m->kind = "nor";
    }
    ask_identity(l, q->word, q->number + 1);
}

/* Where files are loaded to: what is read from a medium may go there. */
static uint64_t free_address(const struct mos_learned *l) {
    const char *text = mos_map_get(&l->variables, "loadaddr");
    text = text ? text : mos_map_get(&l->variables, "kernel_addr_r");
    return text ? strtoull(text, NULL, 16) : 0;
}

/* The next command that tells what it is; behind the last one, its table. */
static void ask_identity(struct mos_learned *l, const char *medium, unsigned index) {
    struct mos_order order = {
        .deed = MOS_ORDER_IDENTIFY, .medium = medium, .address = free_address(l)};
    struct mos_buf command = {.arena = l->arena};
    bool any = ub_orders.type(&order, index, &command);
    if (any &&
        (index < 2 || order.address)) /* the third one reads, beyond the end: it is refused */
        mos_learned_ask(l, mos_buf_string(&command), LONG, learn_medium, medium, index);
    else if (has(l, "part") && strncmp(medium, "sf", 2) != 0)
        mos_learned_ask(l, mos_printf(l->arena, "part list %s", medium), SOON, learn_table, medium,
                        0);
}

/* "mmc@7e300000: 0 (SD)", a line for each; "Device 0: …" of all others. */
static void learn_devices(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    bool mmc = strcmp(q->word, "mmc") == 0;
    for (const char *p = answer; *p; p = mos_next_line(p)) {
        size_t n = strcspn(p, "\n");
        const char *colon = memchr(p, ':', n), *device = strstr(p, "Device ");
        if (!mmc && device != p)
            continue;
        const char *digits = mmc ? (colon ? colon + 1 : p + n) : p + strlen("Device ");
        digits += strspn(digits, " ");
        if (*digits >= '0' && *digits <= '9' && atoi(digits) < MOST_DEVICES)
            ask_identity(l, mos_printf(l->arena, "%s %d", q->word, atoi(digits)), !mmc);
    }
}

/* ---- how it was built ---- */

static void learn_file_systems(struct mos_learned *l, const struct mos_asked *q,
                               const char *answer) {
    const char *list = mos_learned_behind(l->arena, answer, "Supported filesystems:");
    const struct mos_fs_driver *fs;
    for (size_t i = 0; list && (fs = mos_fs_at(i)); i++) {
        const struct mos_fs_loader *word = mos_dialect_reads(l->dialect, fs);
        if (word && word->symbol)
            mos_learned_symbol(l, word->symbol, yes(in_list(list, word->word)), q);
    }
    if (list)
        mos_learned_fact(l, "file systems", list, q);
}

static void form(struct mos_learned *l, const char *name, bool is, const struct mos_asked *q) {
    mos_learned_symbol(l, symbol_of(l->dialect->forms, name), yes(is), q);
}

static void learn_tables(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    const char *list = mos_learned_behind(l->arena, answer, "Supported partition tables:");
    if (!list)
        return;
    form(l, "gpt", in_list(list, "EFI"), q);
    form(l, "mbr", in_list(list, "DOS"), q);
    mos_learned_fact(l, "partition tables", list, q);
}

static void learn_words(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    bool is = strncmp(answer, "yes\n", 4) == 0;
    if (!is && !strstr(answer, l->dialect->unknown[0])) {
        mos_learned_unknown(l, "whether its shell has words: its answer is neither");
        return;
    }
    form(l, "words", is, q);
    mos_learned_fact(l, "the shell's words", is ? "if, for, while" : "none", q);
}

/* What a command's own help tells, where it tells anything. */
static void learn_usage(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    if (!strstr(answer, "Usage:"))
        return;
    if (strcmp(q->word, "bootm") == 0) {
        form(l, "parcels", strstr(answer, "(FIT)") != NULL, q);
    } else {
        form(l, "overlays", strstr(answer, "fdt apply") != NULL, q);
        form(l, "signatures", strstr(answer, "fdt checksign") != NULL, q);
    }
}

/* The drivers that it was built with, by the names of their kind of storage. */
static void learn_drivers(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    static const struct {
        const char *driver, *medium;
    } rows[] = {{"mmc_blk", "mmc"},          {"nvme-blk", "nvme"}, {"virtio-blk", "virtio"},
                {"usb_mass_storage", "usb"}, {"scsi_blk", "scsi"}, {"jedec_spi_nor", "sf"},
                {"sata_blk", "sata"}};
    if (!strstr(answer, "root_driver"))
        return;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *symbol = symbol_of(l->dialect->storage, rows[i].medium);
        const char *p = strstr(answer, mos_printf(l->arena, "\n%s ", rows[i].driver));
        mos_learned_symbol(l, symbol, yes(p), q);
    }
}

/* How many words a command may have: one too many, and it tells how it is used. */
static void learn_words_most(struct mos_learned *l, const struct mos_asked *q, const char *answer);
static void ask_words(struct mos_learned *l, unsigned words) {
    struct mos_buf b = {.arena = l->arena};
    mos_buf_text(&b, "echo");
    for (unsigned i = 1; i < words; i++)
        mos_buf_text(&b, " 1");
    mos_learned_ask(l, mos_buf_string(&b), SOON, learn_words_most, "", words);
}

static void learn_words_most(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    enum { FIRST = 16, LAST = 128 };
    bool goes = answer[0] == '1' && answer[1] == ' ', over = q->number % FIRST == 1;
    if (over && goes && q->number < LAST) {
        ask_words(l, (q->number - 1) * 2 + 1);
    } else if (over && !goes) {
        ask_words(l, q->number - 1);
    } else if (!over && goes) {
        mos_learned_symbol(l, l->dialect->symbols.most_words, mos_printf(l->arena, "%u", q->number),
                           q);
        mos_learned_fact(l, "words of a command", mos_printf(l->arena, "%u at most", q->number),
                         NULL);
    }
}

static void learn_config(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    if (!strstr(answer, "\nCONFIG_"))
        return;
    l->config = answer;
    mos_learned_fact(l, "configuration", "all of it", q);
}

/* ---- the first questions ---- */

/* The list of its commands: "name - what it does", a line each. */
static void learn_commands(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    static const char *const buses[] = {"virtio", "nvme", "scsi", NULL};
    for (const char *p = answer; *p; p = mos_next_line(p)) {
        size_t n = strcspn(p, " \n"), gap = strspn(p + n, " ");
        if (n && gap && strncmp(p + n + gap, "- ", 2) == 0) {
            const char *name = mos_strndup(l->arena, p, n);
            mos_map_set_const(&l->commands, name, name);
        }
    }
    if (!has(l, "help") && !has(l, "?")) {
        mos_learned_unknown(l, "its commands: help does not list them");
        return;
    }
    mos_learned_fact(l, "commands", mos_printf(l->arena, "%zu", l->commands.count), q);
    for (const struct mos_loader_command *c = l->dialect->commands; c->name; c++) {
        const struct mos_told *before = mos_map_get(&l->symbols, c->symbol);
        if (has(l, c->name) || !before)
            mos_learned_symbol(l, c->symbol, yes(has(l, c->name)), q);
    }
    if (has(l, "fdt"))
        form(l, "trees", true, q);
    if (has(l, "unzip"))
        form(l, "gzip", true, q);
    if (has(l, "unlz4"))
        form(l, "lz4", true, q);
    if (has(l, "config"))
        mos_learned_ask(l, "config", LONG * 3, learn_config, "", 0);
    if (has(l, "printenv"))
        mos_learned_ask(l, "printenv", LONG, learn_variables, "", 0);
    if (has(l, "bdinfo"))
        mos_learned_ask(l, "bdinfo", SOON, learn_board, "", 0);
    if (has(l, "fdt")) {
        mos_learned_ask(l, "fdt addr ${fdtcontroladdr}", SOON, NULL, "", 0);
        mos_learned_ask(l, "fdt print / compatible", SOON, learn_tree, "compatible", 0);
        mos_learned_ask(l, "fdt print / model", SOON, learn_tree, "model", 0);
        mos_learned_ask(l, "help fdt", SOON, learn_usage, "fdt", 0);
    }
    if (has(l, "bootm"))
        mos_learned_ask(l, "help bootm", SOON, learn_usage, "bootm", 0);
    if (has(l, "fstypes"))
        mos_learned_ask(l, "fstypes", SOON, learn_file_systems, "", 0);
    if (has(l, "part"))
        mos_learned_ask(l, "part types", SOON, learn_tables, "", 0);
    mos_learned_ask(l, "if true; then echo yes; fi", SOON, learn_words, "", 0);
    if (has(l, "dm"))
        mos_learned_ask(l, "dm drivers", LONG, learn_drivers, "", 0);
    if (has(l, "echo"))
        ask_words(l, 17);
    if (has(l, "mmc"))
        mos_learned_ask(l, "mmc list", LONG, learn_devices, "mmc", 0);
    for (const char *const *p = buses; *p; p++)
        if (has(l, *p)) {
            mos_learned_ask(l, mos_printf(l->arena, "%s scan", *p), LONG, NULL, "", 0);
            mos_learned_ask(l, mos_printf(l->arena, "%s info", *p), SOON, learn_devices, *p, 0);
        }
    if (has(l, "sf"))
        ask_identity(l, "sf 0", 0);
}

/* "U-Boot 2023.01 (…)", and in another line what it was compiled by, which begins with the
 * processor that it was compiled for. */
static void learn_version(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    static const struct {
        const char *begins, *cpu;
    } cpus[] = {{"aarch64", "arm64"},
                {"arm", "arm"},
                {"riscv64", "riscv64"},
                {"x86_64", "x86-64"},
                {"i686", "x86-64"}};
    const char *banner = strstr(answer, "U-Boot ");
    if (!banner)
        return;
    banner += strlen("U-Boot ");
    l->version = mos_strndup(l->arena, banner, strcspn(banner, " \n"));
    mos_learned_fact(l, "version", l->version, q);
    for (const char *p = answer; *p && !l->cpu; p = mos_next_line(p))
        for (size_t i = 0; !l->cpu && i < sizeof cpus / sizeof *cpus; i++)
            if (strncmp(p, cpus[i].begins, strlen(cpus[i].begins)) == 0 &&
                p[strcspn(p, "- \n")] == '-')
                l->cpu = cpus[i].cpu;
    if (l->cpu)
        learn_cpu(l, l->cpu, q);
}

/* Where it looked for its variables as it started, and what came of it. */
static void learn_keeping(struct mos_learned *l, const char *heard) {
    static const struct {
        const char *word, *symbol;
    } places[] = {{"nowhere", "CONFIG_ENV_IS_NOWHERE"},
                  {"MMC", "CONFIG_ENV_IS_IN_MMC"},
                  {"FAT", "CONFIG_ENV_IS_IN_FAT"},
                  {"EXT4", "CONFIG_ENV_IS_IN_EXT4"},
                  {"SPIFlash", "CONFIG_ENV_IS_IN_SPI_FLASH"},
                  {"Flash", "CONFIG_ENV_IS_IN_FLASH"},
                  {"NAND", "CONFIG_ENV_IS_IN_NAND"},
                  {"UBI", "CONFIG_ENV_IS_IN_UBI"},
                  {"EEPROM", "CONFIG_ENV_IS_IN_EEPROM"},
                  {"NVRAM", "CONFIG_ENV_IS_IN_NVRAM"},
                  {"SATA", "CONFIG_ENV_IS_IN_SATA"}};
    static const char said[] = "Loading Environment from ";
    const char *p = heard, *last = NULL;
    for (; (p = strstr(p, said)); p++)
        last = p + strlen(said);
    if (!last)
        return;
    size_t n = strcspn(last, ".\n");
    const char *line = mos_strndup(l->arena, last, strcspn(last, "\n"));
    bool nowhere = n == strlen("nowhere") && strncmp(last, "nowhere", n) == 0;
    /* "OK", or why not; a word or two that are neither may be noise */
    const char *dots = strstr(line, "... "), *came = dots ? dots + strlen("... ") : "";
    if (nowhere || strlen(came) > 2 * strlen("OK"))
        l->variables_are = MOS_VARIABLES_COMPILED;
    else if (strncmp(came, "OK", 2) == 0 && !came[2 + strspn(came + 2, " ")])
        l->variables_are = MOS_VARIABLES_STORED;
    for (size_t i = 0; i < sizeof places / sizeof *places; i++)
        if (strlen(places[i].word) == n && strncmp(last, places[i].word, n) == 0)
            mos_learned_symbol(l, places[i].symbol, "y", NULL);
    mos_learned_fact(l, "environment",
                     mos_printf(l->arena, "%s: %s", mos_strndup(l->arena, last, n),
                                l->variables_are == MOS_VARIABLES_COMPILED
                                    ? "what is compiled in is used"
                                : l->variables_are == MOS_VARIABLES_STORED
                                    ? "it is stored there"
                                    : "whether it is stored there it did not say"),
                     NULL);
}

static bool is(const char *answer) {
    return strstr(answer, "U-Boot 20") != NULL;
}

static void ask(struct mos_learned *l, const struct mos_dialect *dialect, const char *heard) {
    l->dialect = dialect;
    learn_keeping(l, heard);
    mos_learned_ask(l, "version", SOON, learn_version, "", 0);
    mos_learned_ask(l, "help", LONG, learn_commands, "", 0);
}

const struct mos_loader_questions ub_questions = {.version = "version", .is = is, .ask = ask};
