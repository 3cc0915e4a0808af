#include "computer/made-up.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { WORDS = 24, MOST = 4096, MOST_OPEN = 64 };
#define MOST_CONTENT (1ull << 31)

/* A name below sys/ or proc/, or a path that leads to a device. */
struct entry {
    char *path, *text, *target; /* a text, or a link */
    bool is_path, is_device;
    uint64_t number; /* of a path */
};

struct made_up {
    struct mos_computer computer;
    struct entry entries[MOST];
    size_t count;
    struct made_up_device devices[64];
    size_t device_count;
    char *hidden[64];
    size_t hidden_count;
    struct made_up_device *open[MOST_OPEN];
    bool to_write[MOST_OPEN];
    bool plain, bad;
    unsigned long operations, stop_at, first_write;
    unsigned waits;
    bool (*when_waiting)(struct made_up *m, unsigned step);
};

static char *copy(const char *text) {
    size_t n = strlen(text) + 1;
    char *out = malloc(n);
    return out ? memcpy(out, text, n) : NULL;
}

static struct made_up *of(const struct mos_computer *c) {
    return c->user;
}

/* ---- texts ---- */

static struct entry *find(struct made_up *m, const char *path) {
    for (size_t i = 0; i < m->count; i++)
        if (strcmp(m->entries[i].path, path) == 0)
            return &m->entries[i];
    return NULL;
}

static struct entry *entry(struct made_up *m, const char *path) {
    struct entry *e = find(m, path);
    if (e)
        return e;
    if (m->count == MOST) {
        m->bad = true;
        return &m->entries[MOST - 1];
    }
    e = &m->entries[m->count++];
    e->path = copy(path);
    return e;
}

static void set_text(struct made_up *m, const char *path, const char *text) {
    struct entry *e = entry(m, path);
    free(e->text);
    e->text = copy(text);
}

void made_up_set(struct made_up *m, const char *path, const char *text) {
    set_text(m, path, text);
}

static void add_line(struct made_up *m, const char *path, const char *line) {
    struct entry *e = entry(m, path);
    size_t n = e->text ? strlen(e->text) : 0, k = strlen(line);
    char *all = realloc(e->text, n + k + 2);
    if (!all)
        return;
    memcpy(all + n, line, k);
    memcpy(all + n + k, "\n", 2);
    e->text = all;
}

static void set_link(struct made_up *m, const char *path, const char *target) {
    struct entry *e = entry(m, path);
    free(e->target);
    e->target = copy(target);
}

static void set_path(struct made_up *m, const char *path, bool is_device, uint64_t number) {
    struct entry *e = entry(m, path);
    e->is_path = true;
    e->is_device = is_device;
    e->number = number;
}

static int get_text(const struct mos_computer *c, const char *name, char *to, size_t size,
                    size_t *got) {
    const struct entry *e = find(of(c), name);
    if (!e || !e->text)
        return ENOENT;
    size_t n = strlen(e->text);
    *got = n < size ? n : size;
    memcpy(to, e->text, *got);
    return 0;
}

static int get_link(const struct mos_computer *c, const char *name, char *to, size_t size) {
    const struct entry *e = find(of(c), name);
    if (!e || !e->target)
        return ENOENT;
    snprintf(to, size, "%s", e->target);
    return 0;
}

static int get_names(const struct mos_computer *c, const char *name,
                     bool (*each)(void *self, const char *name), void *self) {
    struct made_up *m = of(c);
    size_t n = strlen(name);
    char last[256] = "", path[256];
    for (size_t i = 0; i < m->hidden_count; i++) {
        snprintf(path, sizeof path, "proc/%s/fd", m->hidden[i]);
        if (strcmp(path, name) == 0)
            return EACCES;
    }
    bool any = false;
    for (size_t i = 0; i < m->count; i++) {
        const char *p = m->entries[i].path;
        if (strncmp(p, name, n) != 0 || p[n] != '/' || m->entries[i].is_path)
            continue;
        size_t k = strcspn(p + n + 1, "/");
        bool told = false;
        for (size_t j = 0; j < i && !told; j++) {
            const char *q = m->entries[j].path;
            told = strncmp(q, p, n + 1 + k) == 0 && (!q[n + 1 + k] || q[n + 1 + k] == '/') &&
                   !m->entries[j].is_path;
        }
        snprintf(last, sizeof last, "%.*s", (int)k, p + n + 1);
        any = true;
        if (!told && !each(self, last))
            return 0;
    }
    return any ? 0 : ENOENT;
}

static int device_of(const struct mos_computer *c, const char *path, bool *is_device,
                     uint64_t *number) {
    const struct entry *e = find(of(c), path);
    if (!e || !e->is_path)
        return ENOENT;
    *is_device = e->is_device;
    *number = e->number;
    return 0;
}

/* ---- devices ---- */

struct made_up_device *made_up_device(struct made_up *m, const char *name) {
    for (size_t i = 0; i < m->device_count; i++)
        if (strcmp(m->devices[i].name, name) == 0)
            return &m->devices[i];
    return NULL;
}

static bool content(struct made_up_device *d) {
    if (d->of)
        return content(d->of);
    if (!d->bytes && d->size <= MOST_CONTENT)
        d->bytes = calloc(d->size ? (size_t)d->size : 1, 1);
    return d->bytes != NULL;
}

static int open_it(struct made_up *m, const char *path, bool to_write, int *device) {
    const struct entry *e = find(m, path);
    if (!e || !e->is_path)
        return ENOENT;
    if (!e->is_device)
        return ENOTBLK;
    struct made_up_device *d = NULL;
    for (size_t i = 0; i < m->device_count; i++)
        if (m->devices[i].number == e->number)
            d = &m->devices[i];
    if (!d || ((d->locked || (to_write && m->plain)) && !(d->lent && d->asked)))
        return EACCES;
    if (to_write && (d->busy || d->open || d->fault == MADE_UP_BUSY))
        return EBUSY;
    if (d->read_only && to_write)
        return EROFS;
    if (!content(d))
        return ENOMEM;
    for (int i = 0; i < MOST_OPEN; i++)
        if (!m->open[i]) {
            m->open[i] = d;
            m->to_write[i] = to_write;
            d->open |= to_write;
            if (to_write && d->fault == MADE_UP_EXCHANGED)
                d->sequence++;
            *device = i;
            return 0;
        }
    return EMFILE;
}

static int ask_for(const struct mos_computer *c, const char *path) {
    struct made_up *m = c->user;
    const struct entry *e = find(m, path);
    for (size_t i = 0; e && i < m->device_count; i++)
        if (e->is_device && m->devices[i].number == e->number)
            return m->devices[i].asked++, m->devices[i].lent ? 0 : EACCES;
    return ENOENT;
}

static int open_to_look(const struct mos_computer *c, const char *path, int *device) {
    return open_it(of(c), path, false, device);
}

static int open_to_write(const struct mos_computer *c, const char *path, int *device) {
    return open_it(of(c), path, true, device);
}

static void close_it(const struct mos_computer *c, int device) {
    struct made_up *m = of(c);
    if (m->to_write[device])
        m->open[device]->open = false;
    m->open[device] = NULL;
}

static int info(const struct mos_computer *c, int device, struct mos_device_info *out) {
    const struct made_up_device *d = of(c)->open[device];
    *out = (struct mos_device_info){.size = d->size,
                                    .sector = d->sector,
                                    .number = d->number,
                                    .sequence = d->sequence,
                                    .read_only = d->read_only};
    return 0;
}

static bool touches(uint64_t offset, size_t length, uint64_t at, uint64_t span) {
    return at < offset + length && offset < at + span;
}

/* What every transfer goes through; an errno value. */
static int begin(struct made_up *m, struct made_up_device *d, size_t length, uint64_t offset) {
    m->operations++;
    if (m->stop_at && m->operations > m->stop_at)
        return ENODEV;
    if (d->fault == MADE_UP_VANISHES && ++d->moves > d->fault_at)
        return ENODEV;
    if (offset > d->size || length > d->size - offset)
        return ENXIO;
    return 0;
}

static int read_it(const struct mos_computer *c, int device, void *to, size_t length,
                   uint64_t offset) {
    struct made_up *m = of(c);
    struct made_up_device *d = m->open[device], *whole = d->of ? d->of : d;
    int e = begin(m, d, length, offset);
    if (e)
        return e;
    if (m->to_write[device] && (offset % d->sector || length % d->sector))
        return EINVAL;
    if (d->fault == MADE_UP_FAILS_READ && touches(offset, length, d->fault_at, 1))
        return EIO;
    unsigned char *out = to;
    uint64_t first = d->of ? d->at : 0;
    if (d->fault == MADE_UP_ENDS)
        for (size_t i = 0; i < length; i++)
            out[i] = whole->bytes[first + (offset + i) % d->fault_at];
    else
        memcpy(out, whole->bytes + first + offset, length);
    if (d->fault == MADE_UP_FLIPS && touches(offset, length, d->fault_at, 1) && d->writes)
        out[d->fault_at - offset] ^= 0x10;
    return 0;
}

static void remember(struct made_up_device *d, const void *from, size_t length, uint64_t offset) {
    struct made_up_write *all = realloc(d->pending, (d->pending_count + 1) * sizeof *all);
    unsigned char *bytes = malloc(length ? length : 1);
    if (!all || !bytes)
        abort();
    d->pending = all;
    memcpy(bytes, from, length);
    all[d->pending_count++] = (struct made_up_write){offset, length, bytes};
}

static int write_it(const struct mos_computer *c, int device, const void *from, size_t length,
                    uint64_t offset) {
    struct made_up *m = of(c);
    struct made_up_device *d = m->open[device], *whole = d->of ? d->of : d;
    int e = begin(m, d, length, offset);
    if (e)
        return e;
    if (!m->to_write[device])
        return EBADF;
    if (offset % d->sector || length % d->sector)
        return EINVAL;
    if (d->fault == MADE_UP_FAILS_WRITE && touches(offset, length, d->fault_at, 1))
        return EIO;
    d->writes++;
    if (!m->first_write)
        m->first_write = m->operations;
    const unsigned char *in = from;
    bool strange = d->fault == MADE_UP_DROPS || d->fault == MADE_UP_ENDS;
    if (!strange)
        memcpy(whole->bytes + (d->of ? d->at : 0) + offset, in, length);
    for (size_t i = 0; i < length && strange; i++) {
        uint64_t at = offset + i;
        if (d->fault == MADE_UP_DROPS && at >= d->fault_at && at < d->fault_at + d->fault_length)
            continue;
        if (d->fault == MADE_UP_ENDS)
            at %= d->fault_at;
        whole->bytes[(d->of ? d->at : 0) + at] = in[i];
    }
    if (d->durable)
        remember(d, from, length, offset);
    return 0;
}

/* A write of those that are pending reaches the medium. */
static void arrive(struct made_up_device *d, const struct made_up_write *w) {
    memcpy(d->durable + w->offset, w->bytes, w->length);
}

static void forget(struct made_up_device *d) {
    for (size_t i = 0; i < d->pending_count; i++)
        free(d->pending[i].bytes);
    d->pending_count = 0;
}

static int flush(const struct mos_computer *c, int device) {
    struct made_up *m = of(c);
    struct made_up_device *d = m->open[device];
    int e = begin(m, d, 0, 0);
    if (e)
        return e;
    d->flushes++;
    if (d->fault == MADE_UP_LIES)
        return 0;
    for (size_t i = 0; d->durable && i < d->pending_count; i++)
        arrive(d, &d->pending[i]);
    forget(d);
    return 0;
}

static int read_table(const struct mos_computer *c, int device) {
    (void)c;
    (void)device;
    return 0;
}

static bool pause_it(const struct mos_computer *c) {
    struct made_up *m = of(c);
    m->waits++;
    return m->when_waiting ? m->when_waiting(m, m->waits) : m->waits < 3;
}

static int unmount(const struct mos_computer *c, const char *path) {
    struct made_up *m = of(c);
    struct entry *e = find(m, "proc/self/mountinfo");
    char word[300];
    snprintf(word, sizeof word, " / %s ", path);
    char *at = e && e->text ? strstr(e->text, word) : NULL;
    if (!at)
        return EINVAL;
    while (at > e->text && at[-1] != '\n')
        at--;
    char *end = strchr(at, '\n');
    memmove(at, end + 1, strlen(end + 1) + 1);
    return 0;
}

void made_up_keep_pending(struct made_up_device *d) {
    if (!content(d) || !(d->durable = malloc((size_t)d->size)))
        abort();
    memcpy(d->durable, d->bytes, (size_t)d->size);
}

void made_up_cut_power(struct made_up_device *d, uint64_t seed) {
    for (size_t i = 0; i < d->pending_count; i++) {
        seed = seed * 6364136223846793005u + 1442695040888963407u;
        if (seed >> 63)
            arrive(d, &d->pending[i]);
    }
    forget(d);
    memcpy(d->bytes, d->durable, (size_t)d->size);
}

void made_up_stop_after(struct made_up *m, unsigned long operations) {
    m->stop_at = operations ? m->operations + operations : 0;
}

unsigned long made_up_operations(const struct made_up *m) {
    return m->operations;
}

unsigned long made_up_first_write(const struct made_up *m) {
    return m->first_write;
}

const struct mos_computer *made_up_computer(struct made_up *m) {
    return &m->computer;
}

/* ---- the text ---- */

static size_t split(char *line, char *words[WORDS]) {
    size_t n = 0;
    while (n < WORDS && *(line += strspn(line, " \t\r"))) {
        bool quoted = *line == '"';
        line += quoted;
        words[n++] = line;
        line += strcspn(line, quoted ? "\"" : " \t\r");
        if (!*line)
            break;
        *line++ = 0;
    }
    return n;
}

static bool number_of(const char *text, uint64_t *out) {
    unsigned major, minor;
    char more;
    if (sscanf(text, "%u:%u%c", &major, &minor, &more) != 2)
        return false;
    *out = mos_block_number(major, minor);
    return true;
}

/* "64M", "1G", "512" */
static uint64_t size_of(const char *text) {
    char *unit;
    uint64_t n = strtoull(text, &unit, 0);
    return n << (*unit == 'K' ? 10 : *unit == 'M' ? 20 : *unit == 'G' ? 30 : 0);
}

static const char *value(char *words[], size_t n, const char *key) {
    size_t k = strlen(key);
    for (size_t i = 0; i < n; i++)
        if (strncmp(words[i], key, k) == 0 && (words[i][k] == '=' || !words[i][k]))
            return words[i][k] ? words[i] + k + 1 : words[i] + k;
    return NULL;
}

static void attribute(struct made_up *m, const char *name, const char *file, const char *text) {
    char path[256];
    snprintf(path, sizeof path, "sys/class/block/%s/%s", name, file);
    if (text)
        set_text(m, path, text);
}

/* Where its folder lies among the kernel's devices. */
static void place(struct made_up *m, const char *name, const char *bus, const char *port,
                  const char *lun, char *words[], size_t n) {
    char folder[400], path[700], file[900];
    if (strcmp(bus, "usb") == 0) {
        snprintf(folder, sizeof folder, "devices/pci0/usb1/%s/%s:1.0/host2/target2:0:0/2:0:0:%s",
                 port, port, lun);
        static const char *const keys[][2] = {{"serial", "serial"},
                                              {"speed", "speed"},
                                              {"version", "version"},
                                              {"vendor-id", "idVendor"},
                                              {"product-id", "idProduct"}};
        for (size_t i = 0; i < 5; i++) {
            const char *text = value(words, n, keys[i][0]);
            snprintf(file, sizeof file, "sys/devices/pci0/usb1/%s/%s", port, keys[i][1]);
            set_text(m, file,
                     text     ? text
                     : i == 3 ? "1d6b"
                     : i == 4 ? "0104"
                     : i == 1 ? "5000"
                              : "");
        }
    } else {
        snprintf(folder, sizeof folder, "devices/pci0/%s0", bus);
    }
    snprintf(path, sizeof path, "../../%s/block/%s", folder, name);
    snprintf(file, sizeof file, "sys/class/block/%s", name);
    set_link(m, file, path);
}

static bool fill(struct made_up_device *d, const char *file, const char *folder) {
    char path[1024];
    snprintf(path, sizeof path, "%s%s%s", folder ? folder : "", folder ? "/" : "", file);
    FILE *f = fopen(path, "rb");
    bool ok = f && content(d);
    size_t n = ok ? fread(d->bytes, 1, (size_t)d->size, f) : 0;
    (void)n;
    if (f)
        fclose(f);
    return ok;
}

static bool add_disk(struct made_up *m, char *words[], size_t n, const char *folder) {
    uint64_t number;
    char text[128], path[256];
    if (n < 4 || !number_of(words[2], &number) || m->device_count == 64)
        return false;
    const char *name = words[1], *bus = value(words, n, "bus"), *port = value(words, n, "port"),
               *lun = value(words, n, "lun"), *whole = value(words, n, "of"),
               *sector = value(words, n, "sector"), *sequence = value(words, n, "sequence"),
               *on = value(words, n, "on"), *holds = value(words, n, "holds"),
               *at = value(words, n, "at");
    struct made_up_device *around = whole ? made_up_device(m, whole) : NULL;
    struct made_up_device *d = &m->devices[m->device_count++];
    *d = (struct made_up_device){.name = copy(name),
                                 .number = number,
                                 .size = size_of(words[3]),
                                 .sector = sector ? (uint32_t)size_of(sector) : 512,
                                 .sequence = sequence ? size_of(sequence) : m->device_count,
                                 .read_only = value(words, n, "ro") != NULL,
                                 .locked = value(words, n, "locked") != NULL,
                                 .lent = value(words, n, "lent") != NULL,
                                 .of = around,
                                 .at = at ? size_of(at) : 0};
    if (!d->sector || (d->of && (d->at > d->of->size || d->size > d->of->size - d->at)))
        return false;
    bus = bus ? bus : "other";
    if (whole) {
        snprintf(path, sizeof path, "sys/class/block/%s", name);
        snprintf(text, sizeof text, "../../devices/pci0/block/%.20s/%.20s", whole, name);
        set_link(m, path, text);
        attribute(m, name, "partition", "1");
    } else {
        place(m, name, bus, port ? port : "1-1", lun ? lun : "0", words, n);
        snprintf(text, sizeof text, "%llu", (unsigned long long)d->sequence);
        attribute(m, name, "diskseq", text);
        snprintf(text, sizeof text, "%u", d->sector);
        attribute(m, name, "queue/logical_block_size", text);
    }
    snprintf(text, sizeof text, "%llu", (unsigned long long)(d->size / 512));
    attribute(m, name, "size", text);
    attribute(m, name, "dev", words[2]);
    attribute(m, name, "ro", d->read_only ? "1" : "0");
    attribute(m, name, "device/model", value(words, n, "model"));
    if (strcmp(bus, "usb") != 0)
        attribute(m, name, "device/serial", value(words, n, "serial"));
    attribute(m, name, "device/type",
              strcmp(bus, "sd") == 0    ? "SD"
              : strcmp(bus, "mmc") == 0 ? "MMC"
                                        : NULL);
    attribute(m, name, "loop/backing_file", value(words, n, "backing"));
    attribute(m, name, "dm/name", value(words, n, "name"));
    attribute(m, name, "dm/uuid", value(words, n, "uuid"));
    attribute(m, name, "md/level", value(words, n, "level"));
    for (size_t i = 0; on && i < n; i++) /* there may be several */
        if (strncmp(words[i], "on=", 3) == 0) {
            snprintf(path, sizeof path, "sys/class/block/%s/slaves/%s", name, words[i] + 3);
            set_text(m, path, "");
            snprintf(path, sizeof path, "sys/class/block/%s/holders/%s", words[i] + 3, name);
            set_text(m, path, "");
        }
    snprintf(path, sizeof path, "/dev/%s", name);
    set_path(m, path, true, number);
    return !holds || fill(d, holds, folder);
}

static bool add_program(struct made_up *m, char *words[], size_t n) {
    char path[256], text[128];
    const char *space = value(words, n, "space");
    if (n < 3)
        return false;
    snprintf(path, sizeof path, "proc/%s/comm", words[1]);
    set_text(m, path, words[2]);
    snprintf(path, sizeof path, "proc/%s/ns/mnt", words[1]);
    snprintf(text, sizeof text, "mnt:[%s]", space ? space : "1");
    set_link(m, path, text);
    snprintf(path, sizeof path, "proc/%s/fd/0", words[1]);
    set_text(m, path, "");
    if (value(words, n, "hidden") && m->hidden_count < 64)
        m->hidden[m->hidden_count++] = copy(words[1]);
    return true;
}

static bool add_mount(struct made_up *m, char *words[], size_t n) {
    char path[256], line[1024];
    if (n < 4)
        return false;
    snprintf(path, sizeof path, "proc/%s/mountinfo", words[1]);
    snprintf(line, sizeof line, "30 1 %s / %s rw,relatime shared:1 - ext4 %s rw%s%s", words[2],
             words[3], n > 4 ? words[4] : "none", n > 5 ? "," : "", n > 5 ? words[5] : "");
    add_line(m, path, line);
    return true;
}

static bool add_open(struct made_up *m, char *words[], size_t n) {
    static const char *const numbers = "3456789";
    const struct entry *e = n == 3 ? find(m, words[2]) : NULL;
    char path[256];
    if (!e || !e->is_path)
        return false;
    uint64_t number = e->number;
    bool is_device = e->is_device;
    for (const char *k = numbers; *k; k++) {
        snprintf(path, sizeof path, "proc/%s/fd/%c", words[1], *k);
        if (find(m, path))
            continue;
        set_text(m, path, "");
        snprintf(path, sizeof path, "/proc/%s/fd/%c", words[1], *k);
        set_path(m, path, is_device, number);
        return true;
    }
    return false;
}

static bool add_fault(struct made_up *m, char *words[], size_t n) {
    static const struct {
        const char *name;
        enum made_up_fault fault;
    } faults[] = {{"fails-write", MADE_UP_FAILS_WRITE},
                  {"fails-read", MADE_UP_FAILS_READ},
                  {"drops", MADE_UP_DROPS},
                  {"flips", MADE_UP_FLIPS},
                  {"ends", MADE_UP_ENDS},
                  {"vanishes", MADE_UP_VANISHES},
                  {"exchanged", MADE_UP_EXCHANGED},
                  {"busy", MADE_UP_BUSY},
                  {"lies", MADE_UP_LIES}};
    struct made_up_device *d = n > 2 ? made_up_device(m, words[1]) : NULL;
    for (size_t i = 0; d && i < sizeof faults / sizeof *faults; i++)
        if (strcmp(faults[i].name, words[2]) == 0) {
            d->fault = faults[i].fault;
            d->fault_at = n > 3 ? size_of(words[3]) : 1;
            d->fault_length = n > 4 ? size_of(words[4]) : 1;
            return true;
        }
    return false;
}

static bool add(struct made_up *m, char *line, const char *folder) {
    char *words[WORDS];
    size_t n = split(line, words);
    uint64_t number;
    if (!n || *words[0] == '#')
        return true;
    if (strcmp(words[0], "disk") == 0)
        return add_disk(m, words, n, folder);
    if (strcmp(words[0], "program") == 0)
        return add_program(m, words, n);
    if (strcmp(words[0], "mount") == 0)
        return add_mount(m, words, n);
    if (strcmp(words[0], "open") == 0)
        return add_open(m, words, n);
    if (strcmp(words[0], "fault") == 0)
        return add_fault(m, words, n);
    if (strcmp(words[0], "plain") == 0)
        return m->plain = true;
    if (strcmp(words[0], "swap") == 0 && n == 2) {
        char text[300];
        snprintf(text, sizeof text, "%s partition 1000 0 -2", words[1]);
        add_line(m, "proc/swaps", text);
        return true;
    }
    if (strcmp(words[0], "file") == 0 && n == 3 && number_of(words[2], &number)) {
        set_path(m, words[1], false, number);
        return true;
    }
    if (strcmp(words[0], "text") == 0 && n >= 2)
        set_text(m, words[1], n > 2 ? words[2] : "");
    else if (strcmp(words[0], "link") == 0 && n == 3)
        set_link(m, words[1], words[2]);
    else
        return false;
    return true;
}

bool made_up_plug(struct made_up *m, const char *line) {
    char *own = copy(line);
    bool ok = own && add(m, own, NULL);
    free(own);
    return ok;
}

void made_up_pull(struct made_up *m, const char *name) {
    char start[200];
    size_t n = (size_t)snprintf(start, sizeof start, "sys/class/block/%s", name), kept = 0;
    for (size_t i = 0; i < m->count; i++) {
        struct entry *e = &m->entries[i];
        if (strncmp(e->path, start, n) == 0 && (e->path[n] == '/' || !e->path[n])) {
            free(e->path);
            free(e->text);
            free(e->target);
        } else {
            m->entries[kept++] = *e;
        }
    }
    memset(m->entries + kept, 0, (m->count - kept) * sizeof *m->entries);
    m->count = kept;
}

void made_up_when_waiting(struct made_up *m, bool (*done)(struct made_up *m, unsigned step)) {
    m->when_waiting = done;
}

struct made_up *made_up_new(const char *text, const char *folder, char *why, size_t room) {
    struct made_up *m = calloc(1, sizeof *m);
    char *all = copy(text);
    if (!m || !all)
        abort();
    m->computer = (struct mos_computer){.user = m,
                                        .text = get_text,
                                        .names = get_names,
                                        .link = get_link,
                                        .device_of = device_of,
                                        .open_to_look = open_to_look,
                                        .open_to_write = open_to_write,
                                        .ask_for = ask_for,
                                        .close = close_it,
                                        .info = info,
                                        .read = read_it,
                                        .write = write_it,
                                        .flush = flush,
                                        .read_table = read_table,
                                        .wait = pause_it,
                                        .unmount = unmount};
    add_line(m, "proc/swaps", "Filename Type Size Used Priority");
    set_link(m, "proc/self", "1000");
    set_link(m, "proc/self/ns/mnt", "mnt:[1]");
    add_line(m, "proc/self/mountinfo", "22 27 0:21 / /proc rw - proc proc rw");
    for (char *line = all, *next; line && *line; line = next) {
        char shown[200];
        next = strchr(line, '\n');
        if (next)
            *next++ = 0;
        snprintf(shown, sizeof shown, "%s", line);
        if (!add(m, line, folder) || m->bad) {
            snprintf(why, room, "%.*s", (int)room - 1, shown);
            free(all);
            made_up_free(m);
            return NULL;
        }
    }
    free(all);
    return m;
}

void made_up_free(struct made_up *m) {
    for (size_t i = 0; i < m->count; i++) {
        free(m->entries[i].path);
        free(m->entries[i].text);
        free(m->entries[i].target);
    }
    for (size_t i = 0; i < m->device_count; i++) {
        forget(&m->devices[i]);
        free(m->devices[i].pending);
        free(m->devices[i].name);
        free(m->devices[i].bytes);
        free(m->devices[i].durable);
    }
    for (size_t i = 0; i < m->hidden_count; i++)
        free(m->hidden[i]);
    free(m);
}
