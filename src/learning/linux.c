#include "learning/linux.h"

#include "base/text.h"

#include <openssl/evp.h>
#include <stdlib.h>
#include <string.h>
#include <zlib.h>

enum {
    SOON = 10,
    LONG = 240, /* seconds: some 100 kB at 9600 bits a second */
    SECTOR = 512,
    MOST_FILE = 16 << 20,
    BY_BASE64 = 1, /* how a file comes: else as hexadecimal digits */
    PACKED = 2
};

/* ---- a line for each fact ---- */

static const char *first_line(struct mos_learned *l, const char *answer) {
    return mos_strndup(l->arena, answer, strcspn(answer, "\n"));
}

static void learn_release(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    if (!*answer || strchr(answer, ' '))
        return;
    l->release = first_line(l, answer);
    mos_learned_fact(l, "kernel's release", l->release, q);
}

static void learn_machine(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    static const struct {
        const char *begins, *cpu;
    } cpus[] = {{"aarch64", "arm64"}, {"arm", "arm"}, {"riscv64", "riscv64"}, {"x86_64", "x86-64"}};
    for (size_t i = 0; i < sizeof cpus / sizeof *cpus && !l->cpu; i++)
        if (strncmp(answer, cpus[i].begins, strlen(cpus[i].begins)) == 0)
            l->cpu = cpus[i].cpu;
    mos_learned_fact(l, "processor", l->cpu ? l->cpu : first_line(l, answer), q);
}

static void learn_text(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    const struct {
        const char *word, **to;
    } rows[] = {{"arguments", &l->arguments}, {"host name", &l->host_name}, {"system", &l->system}};
    const char *text = first_line(l, answer);
    size_t n = strlen(text);
    if (n >= 2 && text[0] == '"' && text[n - 1] == '"')
        text = mos_strndup(l->arena, text + 1, n - 2);
    if (!*text)
        return;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (strcmp(rows[i].word, q->word) == 0)
            *rows[i].to = text;
    mos_learned_fact(l, q->word, text, q);
}

static void learn_numbers(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    char *end;
    unsigned long long n = strtoull(answer, &end, 10);
    if (end == answer || !n)
        return;
    if (strcmp(q->word, "cores") == 0)
        l->cores = (unsigned)n;
    else
        l->memory = n * 1024;
    mos_learned_fact(
        l, q->word,
        l->memory ? mos_size_about(l->arena, l->memory) : mos_printf(l->arena, "%u", l->cores), q);
}

/* "/dev/ttyAMA0"; "/dev/console" leads to the one that the kernel prefers. */
static void learn_console(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    if (q->number == 0 && strncmp(answer, "/dev/", 5) == 0 &&
        strncmp(answer, "/dev/console", 12) != 0) {
        l->console = first_line(l, answer + 5);
    } else if (q->number == 1 && !l->console) {
        for (const char *p = answer; *p && !l->console; p = mos_next_line(p)) {
            const char *flags = strchr(p, '('), *c = flags ? strchr(flags, 'C') : NULL;
            if (c && c < p + strcspn(p, ")\n"))
                l->console = mos_strndup(l->arena, p, strcspn(p, " \n"));
        }
    } else {
        return;
    }
    if (l->console && !mos_is_name(l->console))
        l->console = NULL;
    if (l->console)
        mos_learned_fact(l, "console", l->console, q);
}

static void learn_modules(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    for (const char *p = answer; *p; p = mos_next_line(p))
        if (mos_is_name(first_line(l, p)))
            mos_vec_push_pointer(&l->modules, first_line(l, p));
    mos_learned_fact(l, "modules", mos_printf(l->arena, "%zu loaded", l->modules.count), q);
}

/* " 11:    1234  GICv2  33  uart-pl011": who waits for something. */
static void learn_interrupts(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    size_t count = 0;
    for (const char *p = answer; *p; p = mos_next_line(p)) {
        const char *digits = p + strspn(p, " ");
        size_t n = strspn(digits, "0123456789");
        count += n && digits[n] == ':';
    }
    if (count)
        mos_learned_fact(l, "interrupts", mos_printf(l->arena, "%zu in use", count), q);
}

/* "40000000-4fffffff : System RAM"; for nobody but root it has zeros. */
static void learn_ranges(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    for (const char *p = answer; *p; p = mos_next_line(p)) {
        char *end;
        uint64_t start = strtoull(p, &end, 16);
        uint64_t last = *end == '-' ? strtoull(end + 1, NULL, 16) : 0;
        if (last > start)
            mos_learned_ram(l, start, last - start + 1, q);
    }
}

/* ---- storage ---- */

/* The word of that index in a line, from 0; what is last goes to the line's end. */
static const char *word_at(struct mos_arena *arena, const char *line, unsigned index, bool rest) {
    size_t n = strcspn(line, "\n");
    const char *end = line + n;
    for (; index && line < end; index--) {
        line += strcspn(line, " \n");
        line += line < end;
    }
    n = rest ? (size_t)(end - line) : strcspn(line, " \n");
    return mos_strndup(arena, line, line < end ? n : 0);
}

static uint64_t number_at(struct mos_arena *arena, const char *line, unsigned index) {
    return strtoull(word_at(arena, line, index, false), NULL, 10);
}

static const char *kind_of(const char *type, const char *path) {
    if (strstr(path, "/mmc"))
        return strcmp(type, "SD") == 0 ? "sd" : strcmp(type, "MMC") == 0 ? "emmc" : NULL;
    return strstr(path, "/nvme") ? "nvme" : strstr(path, "/usb") ? "usb" : "disk";
}

/* The table that stands before all partitions, of 446 bytes of code no word: four entries and the
 * mark behind them. */
static void learn_table(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    enum { ENTRIES = 4, ENTRY = 16, PROTECTS = 0xee, ALL = ENTRIES * ENTRY + 2 };
    struct mos_told_medium *m = mos_learned_medium(l, NULL, q->word);
    uint8_t bytes[ALL];
    size_t n = 0;
    for (const char *p = answer; *p && n < ALL;) {
        char *end;
        bytes[n] = (uint8_t)strtoul(p, &end, 16);
        if (end == p)
            break;
        n++;
        p = end;
    }
    if (n < ALL || bytes[ALL - 2] != 0x55 || bytes[ALL - 1] != 0xaa)
        return;
    m->table = bytes[4] == PROTECTS ? "gpt" : "mbr";
    for (size_t i = 0; i < m->partitions.count && bytes[4] != PROTECTS; i++) {
        struct mos_told_partition *t = mos_vec_at(&m->partitions, i);
        if (!t->number || t->number > ENTRIES)
            continue;
        t->type = mos_printf(l->arena, "0x%02x", bytes[(t->number - 1) * ENTRY + 4]);
        t->bootable = bytes[(t->number - 1) * ENTRY] == 0x80;
    }
}

/* "disk NAME SECTORS BLOCK TYPE PATH" and "part DISK NUMBER START SECTORS DEVICE NAME" */
static void learn_disks(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    struct mos_arena *a = l->arena;
    for (const char *p = answer; *p; p = mos_next_line(p)) {
        const char *word = word_at(a, p, 0, false), *name = word_at(a, p, 1, false);
        uint64_t size = number_at(a, p, 2);
        if (strcmp(word, "disk") == 0 && size && size < (uint64_t)1 << 51 && mos_is_name(name) &&
            !strstr(name, "boot") && !strstr(name, "rpmb")) {
            struct mos_told_medium *m = mos_learned_medium(l, NULL, name);
            m->size = size * SECTOR;
            m->sector = number_at(a, p, 3);
            m->kind = kind_of(word_at(a, p, 4, false), word_at(a, p, 5, true));
            m->asked = m->table_asked = q->command;
            mos_learned_ask(l,
                            mos_printf(a,
                                       "dd if=/dev/%s bs=512 count=1 2>/dev/null | od -An -v -tx1 "
                                       "-j446 -N66",
                                       name),
                            SOON, learn_table, name, 0);
        } else if (strcmp(word, "part") == 0 && mos_is_name(name)) {
            const char *label = word_at(a, p, 6, true);
            struct mos_told_partition *t =
                mos_learned_partition(mos_learned_medium(l, NULL, name), size,
                                      number_at(a, p, 3) * SECTOR, number_at(a, p, 4) * SECTOR);
            if (!t)
                continue;
            t->device = word_at(a, p, 5, false);
            t->name = *label ? label : NULL;
        }
    }
}

/* "36 1 254:2 / / rw,relatime - ext4 /dev/root rw": device, path and kind. */
static void learn_mounts(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    (void)q;
    for (const char *p = answer; *p; p = mos_next_line(p)) {
        const char *device = word_at(l->arena, p, 2, false), *dash = strstr(p, " - ");
        const char *path = word_at(l->arena, p, 4, false);
        if (!dash || dash > p + strcspn(p, "\n") ||
            strcmp(word_at(l->arena, p, 3, false), "/") != 0)
            continue;
        for (size_t i = 0; i < l->media.count; i++) {
            const struct mos_told_medium *m = mos_vec_at(&l->media, i);
            for (size_t k = 0; k < m->partitions.count; k++) {
                struct mos_told_partition *t = mos_vec_at(&m->partitions, k);
                if (strcmp(t->device, device) != 0 || t->path)
                    continue;
                t->fs = word_at(l->arena, dash + 3, 0, false);
                t->path = path;
            }
        }
    }
}

/* ---- files ---- */

static bool decode(const char *text, bool base64, struct mos_buf *out) {
    size_t n = strlen(text);
    if (!base64) {
        unsigned value = 0, count = 0; /* digits of a byte */
        for (; *text; text++) {
            static const char digits[] = "0123456789abcdef";
            const char *d = strchr(digits, *text);
            if (*text == ' ' || *text == '\n')
                continue;
            if (!d)
                return false;
            value = value << 4 | (unsigned)(d - digits);
            if (++count % 2 == 0)
                mos_buf_char(out, (char)value);
        }
        return count % 2 == 0;
    }
    EVP_ENCODE_CTX *c = EVP_ENCODE_CTX_new();
    unsigned char *to = mos_alloc(out->arena, n + 3);
    int got = 0, rest = 0;
    EVP_DecodeInit(c);
    bool ok = EVP_DecodeUpdate(c, to, &got, (const unsigned char *)text, (int)n) >= 0 &&
              EVP_DecodeFinal(c, to + got, &rest) >= 0;
    EVP_ENCODE_CTX_free(c);
    mos_buf_add(out, to, ok ? (size_t)(got + rest) : 0);
    return ok;
}

static bool expand(const struct mos_buf *packed, struct mos_buf *out) {
    uint8_t piece[16 << 10];
    z_stream z = {.next_in = (Bytef *)packed->data, .avail_in = (uInt)packed->length};
    int e = inflateInit2(&z, 15 + 16); /* a gzip file */
    while (e == Z_OK) {
        z.next_out = piece;
        z.avail_out = sizeof piece;
        e = inflate(&z, Z_NO_FLUSH);
        mos_buf_add(out, piece, sizeof piece - z.avail_out);
        if (out->length > MOST_FILE)
            e = Z_MEM_ERROR;
    }
    inflateEnd(&z);
    return e == Z_STREAM_END;
}

static bool unpack(const struct mos_asked *q, const char *answer, struct mos_buf *out) {
    struct mos_buf packed = {.arena = out->arena};
    if (!(q->number & PACKED))
        return decode(answer, q->number & BY_BASE64, out);
    return decode(answer, q->number & BY_BASE64, &packed) && expand(&packed, out);
}

/* It has a sum of its own. */
static bool is_whole(struct mos_arena *arena, const struct mos_asked *q, const char *answer) {
    struct mos_buf file = {.arena = arena};
    return unpack(q, answer, &file);
}

static void learn_file(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    bool config = strcmp(q->word, "kernel's configuration") == 0;
    struct mos_buf *to = config ? &l->kernel_config : &l->tree;
    bool ok = unpack(q, answer, to);
    if (!ok || !to->length) {
        to->length = 0;
        mos_learned_unknown(
            l, mos_printf(l->arena, "its %s: %s", q->word,
                          ok ? "no file that can be read has it" : "what came of it is damaged"));
        return;
    }
    mos_learned_fact(l, q->word, mos_size_text(l->arena, to->length), q);
}

static void ask_file(struct mos_learned *l, const char *reads, const char *name, unsigned how) {
    mos_learned_ask(l,
                    mos_printf(l->arena, "%s%s | %s", reads, how & PACKED ? " | gzip -9c" : "",
                               how & BY_BASE64 ? "base64" : "od -An -v -tx1 | tr -d ' '"),
                    LONG, learn_file, name, how)
        ->whole = how & PACKED ? is_whole : NULL;
}

/* Which tools bring a file over the line. */
static void learn_tools(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    unsigned how =
        (strstr(answer, "base64") ? BY_BASE64 : 0) | (strstr(answer, "gzip") ? PACKED : 0);
    (void)q;
    ask_file(l, "cat /sys/firmware/fdt 2>/dev/null", "device tree", how);
    ask_file(l, "(zcat /proc/config.gz || cat /boot/config-$(uname -r)) 2>/dev/null",
             "kernel's configuration", how);
}

/* The file by which the system reaches the loader's variables: lines of device, place and size. */
static void learn_access(struct mos_learned *l, const struct mos_asked *q, const char *answer) {
    for (const char *p = answer; *p; p = mos_next_line(p))
        if (*p == '/' && !l->loader_access) {
            l->loader_access = first_line(l, p);
            mos_learned_fact(l, "loader's variables", l->loader_access, q);
        }
}

void mos_learned_ask_linux(struct mos_learned *l, const char *access) {
    const struct {
        const char *command;
        void (*understand)(struct mos_learned *l, const struct mos_asked *q, const char *answer);
        const char *word;
        unsigned number;
    } rows[] = {
        {"uname -r", learn_release, "", 0},
        {"uname -m", learn_machine, "", 0},
        {"uname -n", learn_text, "host name", 0},
        {"sed -n 's/^PRETTY_NAME=//p' /etc/os-release 2>/dev/null", learn_text, "system", 0},
        {"cat /proc/cmdline", learn_text, "arguments", 0},
        {"cat /proc/1/comm", learn_text, "first program", 0},
        {"tty", learn_console, "", 0},
        {"cat /proc/consoles", learn_console, "", 1},
        {"grep -c ^processor /proc/cpuinfo", learn_numbers, "cores", 0},
        {"sed -n 's/^MemTotal: *\\([0-9]*\\).*/\\1/p' /proc/meminfo", learn_numbers,
         "RAM of the kernel", 0},
        {"grep 'System RAM' /proc/iomem", learn_ranges, "", 0},
        {"for b in /sys/block/*; do [ -e $b/device ] || continue; n=${b##*/}; echo \"disk $n $(cat "
         "$b/size) $(cat $b/queue/logical_block_size) $(cat $b/device/type 2>/dev/null || echo -) "
         "$(readlink -f $b/device)\"; for p in $b/$n*; do [ -e $p/partition ] && echo \"part $n "
         "$(cat $p/partition) $(cat $p/start) $(cat $p/size) $(cat $p/dev) $(sed -n "
         "s/^PARTNAME=//p $p/uevent)\"; done; done",
         learn_disks, "", 0},
        {"cat /proc/self/mountinfo", learn_mounts, "", 0},
        {"cat /proc/mtd 2>/dev/null", NULL, "", 0},
        {"cut -d' ' -f1 /proc/modules", learn_modules, "", 0},
        {"cat /proc/interrupts", learn_interrupts, "", 0},
        {mos_printf(l->arena, "cat /%s 2>/dev/null", access), learn_access, "", 0},
        {"for t in base64 gzip; do command -v $t; done", learn_tools, "", 0},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct mos_asked *q = mos_learned_ask(l, rows[i].command, SOON, rows[i].understand,
                                              rows[i].word, rows[i].number);
        if (rows[i].understand == learn_interrupts) /* they are counted */
            q->whole = mos_learned_any;
    }
}
