/* Writing media: on made-up computers, whose cards fail in every way that cards do. */
#include "support.h"

#include "base/bytes.h"
#include "computer/scene.h"
#include "media/verdict.h"
#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>

enum { SIZE = CARD_SIZE };

/* ---- the guard ---- */

/* A notebook: its disk under a volume group on RAID, a card reader with two slots, a stick, a slot
 * with a card, soldered storage, a data disk. */
static const char notebook[] = "disk nvme0n1 259:0 64M bus=nvme model=Tern-Disk serial=N1\n"
                               "disk nvme0n1p1 259:1 8M of=nvme0n1 at=1M\n"
                               "disk nvme0n1p2 259:2 48M of=nvme0n1 at=16M\n"
                               "disk sda 8:0 64M bus=sata model=Data\n"
                               "disk sda1 8:1 32M of=sda at=1M\n"
                               "disk sdb 8:16 16M bus=usb port=1-2 lun=0 model=Reader serial=R1\n"
                               "disk sdb1 8:17 8M of=sdb at=1M\n"
                               "disk sdc 8:32 16M bus=usb port=1-2 lun=1 model=Reader serial=R1\n"
                               "disk sdd 8:48 16M bus=usb port=1-3 model=Stick serial=S1\n"
                               "disk mmcblk0 179:0 16M bus=mmc serial=0x1\n"
                               "disk mmcblk0boot0 179:8 4M bus=mmc\n"
                               "disk mmcblk1 179:16 16M bus=sd serial=0x2\n"
                               "disk md0 9:0 48M bus=md level=raid1 on=nvme0n1p2\n"
                               "disk dm-0 253:0 32M bus=dm name=vg-root uuid=LVM-1 on=md0\n"
                               "disk vda 254:0 16M bus=virtio\n"
                               "disk loop0 7:0 16M bus=loop backing=/home/a/card.raw\n"
                               "disk sr0 11:0 0 bus=sata\n"
                               "disk sdr 8:240 16M bus=usb ro\n"
                               "disk sds 65:0 1M bus=usb\n"
                               "disk sdt 65:16 512G bus=usb locked\n"
                               "disk sdu 65:32 16M bus=usb sector=4096\n"
                               "disk sdv 65:48 2G bus=usb\n"
                               "disk sdw 65:64 0 bus=usb\n"
                               "file /home/a/card.raw 253:0\n"
                               "mount self 253:0 /\n"
                               "mount self 259:1 /boot/efi\n"
                               "program 412 emulator\n"
                               "program 812 containers space=2\n";

static const struct {
    const char *path, *more, *rules;
    bool also;
} guards[] = {
    /* what may be written */
    {"/dev/sdb", "", ""},
    {"/dev/sdc", "", ""},
    {"/dev/sdd", "", ""},
    {"/dev/mmcblk1", "", ""},
    {"/dev/sdb", "mount self 8:49 /media/other\n", ""},
    {"/dev/sdb", "open 412 /dev/sdc\n", ""},
    {"/dev/sdb", "swap /dev/sda1\n", ""},
    {"/dev/sda", "", "", true},
    {"/dev/mmcblk0", "", "", true},
    {"/dev/vda", "", "", true},
    {"/dev/loop0", "", "", true},
    {"/dev/sdv", "", "", true},
    /* no storage device, or not all of one */
    {"/dev/null", "", "write.not-a-device"},
    {"/home/a/card.raw", "", "write.not-a-device"},
    {"/dev/sdx", "", "write.not-a-device"},
    {"", "", "write.not-a-device"},
    {"/dev/sdb1", "", "write.partition"},
    {"/dev/sda1", "", "write.not-removable write.partition"},
    {"/dev/mmcblk0boot0", "", "write.not-removable write.partition"},
    {"/dev/mmcblk0boot0", "", "write.partition", true},
    /* the disk the system stands on, however many layers below */
    {"/dev/nvme0n1", "", "write.in-use write.mounted write.not-removable write.system-disk"},
    {"/dev/nvme0n1", "", "write.in-use write.mounted write.system-disk", true},
    {"/dev/nvme0n1p2", "", "write.in-use write.not-removable write.partition write.system-disk"},
    {"/dev/md0", "", "write.in-use write.system-disk", true},
    {"/dev/dm-0", "", "write.mounted write.system-disk", true},
    {"/dev/sdd", "mount self 8:48 /boot\n", "write.mounted write.system-disk"},
    {"/dev/sdb", "mount self 8:17 /usr\n", "write.mounted write.system-disk"},
    {"/dev/sdb", "mount self 8:17 /var\n", "write.mounted write.system-disk"},
    {"/dev/sdb", "mount self 8:17 /home\n", "write.mounted write.system-disk"},
    {"/dev/sdb", "mount self 8:17 /etc\n", "write.mounted write.system-disk"},
    {"/dev/sdb", "mount self 8:17 /boot/firmware\n", "write.mounted write.system-disk"},
    /* a live system: the root is a file on a stick, or an overlay over one */
    {"/dev/sdd",
     "disk loop1 7:1 1M bus=loop backing=/run/live/root.img\n"
     "file /run/live/root.img 8:48\nmount self 7:1 /\n",
     "write.system-disk"},
    {"/dev/sdd",
     "mount self 0:40 / overlay lowerdir=/run/low:/run/lower,upperdir=/run/up\n"
     "file /run/lower 8:48\n",
     "write.system-disk"},
    {"/dev/sdd",
     "mount self 0:40 / overlay lowerdir=/run/low,upperdir=/run/up\nfile /run/up 8:48\n",
     "write.system-disk"},
    {"/dev/sdd", "mount self 0:41 / /dev/sdd\n", "write.mounted write.system-disk"},
    {"/dev/sdd",
     "disk dm-1 253:1 8M bus=dm name=crypt uuid=CRYPT-LUKS2 on=sdd\nmount self 253:1 /\n",
     "write.in-use write.system-disk"},
    {"/dev/sdd",
     "disk dm-1 253:1 8M bus=dm name=crypt uuid=CRYPT-LUKS2 on=sdd\n"
     "disk dm-2 253:2 8M bus=dm name=vg uuid=LVM-2 on=dm-1\nmount self 253:2 /usr\n",
     "write.in-use write.system-disk"},
    /* mounted, anywhere, in any namespace; swap */
    {"/dev/sdb", "mount self 8:17 /media/BOOT\n", "write.mounted"},
    {"/dev/sdb", "mount self 8:16 /mnt\n", "write.mounted"},
    {"/dev/sdb", "mount self 8:17 /media/a\\040name\n", "write.mounted"},
    {"/dev/sdb", "mount self 8:17 /one\nmount self 8:17 /two\n", "write.mounted"},
    {"/dev/sdb", "mount self 0:50 /pool /dev/sdb1\n", "write.mounted"},
    {"/dev/sdb", "mount 812 8:17 /inside\n", "write.mounted"},
    {"/dev/sdb", "mount 812 8:16 /inside\n", "write.mounted"},
    {"/dev/sdb", "mount 812 0:60 /inside /dev/sdb\n", "write.mounted"},
    {"/dev/sdb", "swap /dev/sdb1\n", "write.mounted"},
    {"/dev/sdb", "swap /dev/sdb\n", "write.mounted"},
    {"/dev/sdb1", "mount self 8:17 /mnt\n", "write.mounted write.partition"},
    {"/dev/mmcblk1", "mount self 179:16 /mnt\n", "write.mounted"},
    {"/dev/sda", "mount self 8:1 /data\n", "write.mounted", true},
    /* part of something larger */
    {"/dev/sdb", "disk dm-1 253:1 8M bus=dm name=a uuid=LVM-3 on=sdb1\n", "write.in-use"},
    {"/dev/sdb", "disk dm-1 253:1 8M bus=dm name=a uuid=CRYPT-LUKS2 on=sdb\n", "write.in-use"},
    {"/dev/sdb", "disk md1 9:1 8M bus=md level=raid1 on=sdb\n", "write.in-use"},
    {"/dev/sdb", "disk md1 9:1 8M bus=md level=raid1 on=sdb1\n", "write.in-use"},
    {"/dev/sda", "disk md1 9:1 8M bus=md level=raid5 on=sda1\n", "write.in-use", true},
    {"/dev/sdb1", "disk md1 9:1 8M bus=md level=raid1 on=sdb\n", "write.in-use write.partition"},
    /* open in a program */
    {"/dev/sdb", "open 412 /dev/sdb\n", "write.in-use"},
    {"/dev/sdb", "open 412 /dev/sdb1\n", "write.in-use"},
    {"/dev/sdb", "open 812 /dev/sdb\nopen 412 /dev/sdb\n", "write.in-use"},
    {"/dev/mmcblk1", "open 412 /dev/mmcblk1\n", "write.in-use"},
    {"/dev/vda", "open 412 /dev/vda\n", "write.in-use", true},
    {"/dev/sdb", "fault sdb busy\n", "write.in-use"},
    /* nobody can tell */
    {"/dev/sdb", "text proc/swaps\nlink proc/swaps gone\n", ""},
    /* not pluggable, too large, too small, read-only, other sectors */
    {"/dev/sda", "", "write.not-removable"},
    {"/dev/mmcblk0", "", "write.not-removable"},
    {"/dev/vda", "", "write.not-removable"},
    {"/dev/loop0", "", "write.not-removable"},
    {"/dev/sdv", "", "write.too-large"},
    {"/dev/sdt", "", "write.too-large"},
    {"/dev/sr0", "", "write.too-small"},
    {"/dev/sdw", "", "write.too-small"},
    {"/dev/sds", "", "write.too-small"},
    {"/dev/sdr", "", "write.read-only"},
    {"/dev/sdu", "", "write.sector-size"},
    {"/dev/sdb", "fault sdb exchanged\n", "write.exchanged"},
    /* what is not in the first row of anything */
    {"/dev/sdc", "disk sdc1 8:33 8M of=sdc at=1M\nmount 812 8:33 /x\n", "write.mounted"},
    {"/dev/sdc", "disk sdc1 8:33 8M of=sdc at=1M\nopen 412 /dev/sdc1\n", "write.in-use"},
    {"/dev/sdc", "disk sdc1 8:33 8M of=sdc at=1M\nswap /dev/sdc1\n", "write.mounted"},
    {"/dev/mmcblk1", "disk mmcblk1p1 179:17 8M of=mmcblk1 at=1M\n", ""},
    {"/dev/mmcblk1",
     "disk mmcblk1p1 179:17 8M of=mmcblk1 at=1M\nmount self 179:17 /boot/firmware\n",
     "write.mounted write.system-disk"},
    {"/dev/mmcblk1",
     "disk mmcblk1p1 179:17 8M of=mmcblk1 at=1M\ndisk md1 9:1 8M bus=md level=raid1 on=mmcblk1p1\n",
     "write.in-use"},
    {"/dev/sdd", "program 900 daemon space=3\nmount 900 8:48 /deep\n", "write.mounted"},
    {"/dev/sdd", "program 900 daemon hidden\n", ""}, /* said, and no reason */
    /* several at once */
    {"/dev/sdr", "mount self 65:0 /x\nswap /dev/sdr\nopen 412 /dev/sdr\n",
     "write.in-use write.mounted write.read-only"},
    {"/dev/sdv", "mount self 65:48 /x\n", "write.mounted", true},
    {"/dev/sda", "open 412 /dev/sda1\nmount 812 8:1 /y\n",
     "write.in-use write.mounted write.not-removable"},
};

static int by_text(const void *a, const void *b) {
    return strcmp(*(char *const *)a, *(char *const *)b);
}

/* "b a" becomes "a b". */
static void in_order(char *rules) {
    char *words[32], copy[400];
    size_t n = 0;
    snprintf(copy, sizeof copy, "%s", rules);
    for (char *p = strtok(copy, " "); p && n < 32; p = strtok(NULL, " "))
        words[n++] = p;
    qsort(words, n, sizeof *words, by_text);
    *rules = 0;
    for (size_t i = 0; i < n; i++)
        sprintf(rules + strlen(rules), "%s%s", i ? " " : "", words[i]);
}

/* Writes that any device has seen. */
static unsigned long writes_of(struct made_up *m) {
    static const char *const names[] = {
        "nvme0n1", "nvme0n1p1", "nvme0n1p2", "sda", "sda1",  "sdb", "sdb1", "sdc", "sdd", "mmcblk0",
        "mmcblk1", "md0",       "dm-0",      "vda", "loop0", "sdr", "sds",  "sdt", "sdu", "sdv"};
    unsigned long all = made_up_device(m, "mmcblk0boot0")->writes;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        all += made_up_device(m, names[i])->writes;
    return all;
}

static void guard_refuses_what_must_stay(void) {
    struct scene s;
    scene_start(&s);
    for (size_t i = 0; i < sizeof guards / sizeof *guards; i++) {
        char text[8192], token[5] = "";
        snprintf(text, sizeof text, "%s%s", notebook, guards[i].more);
        struct made_up *m = scene_computer(text);
        if (guards[i].also)
            scene_token(&s, m, guards[i].path, token);
        const char *also[] = {token, NULL};
        struct mosaicum_write r = {.also = guards[i].also ? also : NULL};
        struct result got = scene_write(&s, m, r, guards[i].path);
        in_order(got.rules);
        const char *wanted = guards[i].rules;
        if (strcmp(got.rules, wanted) != 0 ||
            got.status != (*wanted ? MOSAICUM_REFUSED : MOSAICUM_DONE))
            fprintf(stderr, "\n%s after \"%s\": %s; expected %s (status %d, %s)\n", guards[i].path,
                    guards[i].more, got.rules, wanted, (int)got.status, got.error);
        CU_ASSERT_STRING_EQUAL(got.rules, wanted);
        CU_ASSERT_EQUAL(got.status, *wanted ? MOSAICUM_REFUSED : MOSAICUM_DONE);
        CU_ASSERT_EQUAL(writes_of(m) == 0, *wanted != 0);
        made_up_free(m);
    }
    scene_end(&s);
}

/* ---- writing ---- */

/* A card with another one's content, of `size`. */
/* Where in a list of writes the last one lies that touches [from, to); SIZE_MAX: none. */
static size_t last_write(const struct made_up_device *d, uint64_t from, uint64_t to, bool zeros) {
    size_t found = SIZE_MAX;
    for (size_t i = 0; i < d->pending_count; i++) {
        const struct made_up_write *w = &d->pending[i];
        bool zero = true;
        for (size_t k = 0; k < w->length && zero; k++)
            zero = w->bytes[k] == 0;
        if (w->offset < to && from < w->offset + w->length && zero == zeros)
            found = i;
    }
    return found;
}

/* What is old is made invalid first; content, then the table, then what a ROM starts. */
static void the_order_is_safe(void) {
    struct scene s;
    scene_start(&s);
    for (int changed = 0; changed < 2; changed++) {
        struct made_up *m = scene_card(4, "fault sdb lies\n"); /* so that every write is kept */
        struct made_up_device *d = scene_noise(&s, m);
        made_up_keep_pending(d);
        struct result got =
            scene_write(&s, m, (struct mosaicum_write){.changed = changed}, "/dev/sdb");
        CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
        CU_ASSERT_TRUE(scene_carries(&s, d, true));
        size_t head = last_write(d, 0, 1, true), end = last_write(d, SIZE - 512, SIZE, true);
        size_t boot = last_write(d, card_parts[CARD_BOOT].at,
                                 card_parts[CARD_BOOT].at + card_parts[CARD_BOOT].length, false);
        size_t root =
            last_write(d, card_parts[CARD_ROOT].at, card_parts[CARD_ROOT].at + MIB, false);
        size_t table = last_write(d, 0, 512, false);
        size_t start =
            last_write(d, card_parts[CARD_FIRST].at, card_parts[CARD_FIRST].at + 512, false);
        CU_ASSERT(head < 3 && end < 3 && boot > end && root > boot && table > root &&
                  start > table);
        CU_ASSERT_EQUAL(start, last_write(d, 0, SIZE, false));
        /* … and it is a sector: of several, a device may put the first one there first */
        CU_ASSERT(last_write(d, card_parts[CARD_FIRST].at + 512,
                             card_parts[CARD_FIRST].at + card_parts[CARD_FIRST].length,
                             false) < table);
        made_up_free(m);
    }
    scene_end(&s);
}

/* In the image and its ledger the first stage begins with so many bytes that must be zero. */
static void begin_with_zeros(struct scene *s, uint64_t count) {
    const struct card_part *p = &card_parts[CARD_FIRST];
    memset(s->image + p->at, 0, (size_t)count);
    card_put(&s->core, s->image, path_in(s->folder, "out"), "one");
    char *path = path_in(s->folder, "out/ledger.json");
    json_t *d = json_load_file(path, 0, NULL), *span;
    json_t *spans = json_object_get(json_array_get(json_object_get(d, "images"), 0), "spans");
    size_t i;
    json_array_foreach(spans, i, span) {
        if ((uint64_t)json_integer_value(json_object_get(span, "offset")) != p->at)
            continue;
        json_object_set_new(span, "offset", json_integer((json_int_t)(p->at + count)));
        json_object_set_new(span, "length", json_integer((json_int_t)(p->data - count)));
        json_array_insert_new(spans, i,
                              json_pack("{s:I,s:I,s:s}", "offset", (json_int_t)p->at, "length",
                                        (json_int_t)count, "kind", "zero"));
        break;
    }
    CU_ASSERT_EQUAL(json_dump_file(d, path, 0), 0);
    json_decref(d);
}

/* What a ROM looks at may lie behind zeros: that sector goes first, and comes last. */
static void a_start_behind_zeros(void) {
    enum { ZEROS = 8 * KIB, AT = 32 * KIB + ZEROS };
    struct scene s;
    scene_start(&s);
    begin_with_zeros(&s, ZEROS);
    struct made_up *m = scene_card(4, "fault sdb lies\n");
    struct made_up_device *d = scene_noise(&s, m);
    made_up_keep_pending(d);
    CU_ASSERT_EQUAL(scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb").status,
                    MOSAICUM_DONE);
    CU_ASSERT_TRUE(scene_carries(&s, d, true));
    size_t last = last_write(d, 0, SIZE, false), table = last_write(d, 0, 512, false);
    CU_ASSERT_EQUAL(last_write(d, AT, AT + 512, false), last);
    CU_ASSERT(last_write(d, AT, AT + 512, true) < 4); /* made invalid before all else */
    CU_ASSERT(last_write(d, AT + 512, AT + 40 * KIB, false) < table);
    made_up_free(m);
    scene_end(&s);
}

static const struct {
    const char *fault, *rules, *says;
    enum mosaicum_status status;
    bool is_whole;
} faults[] = {
    {"fails-write 1200K", "", "in boot", MOSAICUM_SYSTEM, false},
    {"fails-write 1900K", "", "", MOSAICUM_DONE, true}, /* nobody needs that byte */
    {"fails-write 40K", "", "in first", MOSAICUM_SYSTEM, false},
    {"fails-write 0", "", "could not be written", MOSAICUM_SYSTEM, false},
    {"fails-read 2100K", "", "in root", MOSAICUM_SYSTEM, false},
    {"drops 1200K 100K", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"drops 0 4M", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"drops 36K 512", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"drops 1024 512", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"flips 2500K", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"flips 33K", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"ends 2M", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"ends 2500K", "write.read-back", "something else", MOSAICUM_FINDINGS, false},
    {"vanishes 60", "", "could not be", MOSAICUM_SYSTEM, false},
};

static void faults_are_told(void) {
    struct scene s;
    scene_start(&s);
    for (size_t i = 0; i < sizeof faults / sizeof *faults; i++) {
        char fault[100];
        snprintf(fault, sizeof fault, "fault sdb %s\n", faults[i].fault);
        struct made_up *m = scene_card(4, fault);
        struct made_up_device *d = scene_noise(&s, m);
        struct result got = scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb");
        if (got.status != faults[i].status || strcmp(got.rules, faults[i].rules) != 0 ||
            !strstr(got.results, faults[i].says))
            fprintf(stderr, "\n%s: status %d, %s, \"%s\" %s\n", faults[i].fault, (int)got.status,
                    got.rules, got.results, got.error);
        CU_ASSERT_EQUAL(got.status, faults[i].status);
        CU_ASSERT_STRING_EQUAL(got.rules, faults[i].rules);
        CU_ASSERT_PTR_NOT_NULL(strstr(got.results, faults[i].says));
        CU_ASSERT_EQUAL(scene_carries(&s, d, true), faults[i].is_whole);
        bool stuck = strstr(faults[i].fault, " 0") || strstr(faults[i].fault, "ends") ||
                     strstr(faults[i].fault, "vanishes"); /* its old table cannot be reached */
        if (!stuck && scene_has_table(&s, d) != faults[i].is_whole)
            fprintf(stderr, "\n%s: a table\n", faults[i].fault);
        CU_ASSERT(stuck || scene_has_table(&s, d) == faults[i].is_whole);
        made_up_free(m);
    }
    scene_end(&s);
}

/* Where a table is, all is old, or all is new but for what a ROM starts; where that is, all is new.
 */
static void check_never_half(struct scene *s, const struct made_up_device *d, const uint8_t *old) {
    const struct card_part *first = &card_parts[CARD_FIRST];
    uint64_t content = first->at + first->length;
    bool is_old = memcmp(d->bytes + content, old + content, (size_t)(d->size - 512 - content)) == 0;
    bool starts = memcmp(d->bytes + first->at, s->image + first->at, 512) == 0;
    uint8_t *start = malloc((size_t)first->data);
    memcpy(start, d->bytes + first->at, (size_t)first->data);
    CU_ASSERT(!starts || scene_carries(s, d, true));
    memcpy(d->bytes + first->at, s->image + first->at, (size_t)first->data);
    CU_ASSERT(is_old || !scene_has_table(s, d) || scene_carries(s, d, true));
    memcpy(d->bytes + first->at, start, (size_t)first->data);
    free(start);
}

/* Ended at every moment, with what was on its way arrived or not; the same command goes on. */
static void interrupted_it_goes_on(void) {
    struct scene s;
    scene_start(&s);
    struct made_up *whole = scene_card(4, "");
    scene_noise(&s, whole);
    CU_ASSERT_EQUAL(scene_write(&s, whole, (struct mosaicum_write){0}, "/dev/sdb").status,
                    MOSAICUM_DONE);
    unsigned long operations = made_up_operations(whole);
    unsigned long from = made_up_first_write(whole) - 3;
    made_up_free(whole);
    CU_ASSERT(operations > from + 20);
    for (unsigned long k = from; k <= operations; k++)
        for (uint64_t seed = 0; seed < 4; seed++) {
            if (!row_is_taken(k + seed))
                continue;
            struct made_up *m = scene_card(4, "");
            struct made_up_device *d = scene_noise(&s, m);
            uint8_t *old = malloc((size_t)d->size);
            memcpy(old, d->bytes, (size_t)d->size);
            made_up_keep_pending(d);
            made_up_stop_after(m, k);
            struct result got = scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb");
            CU_ASSERT_EQUAL(got.status, k < operations ? MOSAICUM_SYSTEM : MOSAICUM_DONE);
            made_up_cut_power(d, seed * 1000 + k);
            check_never_half(&s, d, old);
            made_up_stop_after(m, 0);
            got = scene_write(&s, m, (struct mosaicum_write){.changed = seed % 2}, "/dev/sdb");
            CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
            CU_ASSERT_TRUE(scene_carries(&s, d, true) && scene_has_table(&s, d));
            free(old);
            made_up_free(m);
        }
    scene_end(&s);
}

/* Only what differs is written, and nothing at all where nothing does. */
static void only_changes_are_written(void) {
    struct scene s;
    scene_start(&s);
    uint64_t seed = 5;
    struct made_up *m = scene_card(4, "");
    struct made_up_device *d = scene_noise(&s, m);
    const struct mosaicum_write changed = {.changed = true, .all_regions = true};
    CU_ASSERT_EQUAL(scene_write(&s, m, changed, "/dev/sdb").status, MOSAICUM_DONE);
    for (int i = 0; i < 40; i++) {
        size_t count = random_below(&seed, 4);
        for (size_t k = 0; k < count; k++) {
            const struct card_part *p = &card_parts[random_below(&seed, CARD_PARTS)];
            d->bytes[p->at + random_below(&seed, p->data)] ^= 1;
        }
        unsigned long before = d->writes;
        struct result got = scene_write(&s, m, changed, "/dev/sdb");
        CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
        CU_ASSERT_TRUE(scene_carries(&s, d, true) && scene_has_table(&s, d));
        CU_ASSERT_EQUAL(d->writes == before, strstr(got.results, "nothing differed") != NULL);
        CU_ASSERT(count || d->writes == before);
        CU_ASSERT(d->writes - before < 20); /* tables and marks; all of it is more */
    }
    made_up_free(m);
    scene_end(&s);
}

/* What belongs to the factory and to the running board stays on a card of this layout. */
static void what_is_not_ours_stays(void) {
    struct scene s;
    scene_start(&s);
    struct made_up *m = scene_card(4, "");
    struct made_up_device *d = scene_noise(&s, m);
    CU_ASSERT_EQUAL(scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb").status,
                    MOSAICUM_DONE);
    CU_ASSERT_TRUE(scene_carries(&s, d, true)); /* at first, all of it is written */
    memset(d->bytes + card_parts[CARD_ENV].at, 0x5a, (size_t)card_parts[CARD_ENV].length);
    memset(d->bytes + card_parts[CARD_SERIAL].at, 0xa5, (size_t)card_parts[CARD_SERIAL].length);
    scene_build(&s, 2, "two");
    CU_ASSERT_EQUAL(scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb").status,
                    MOSAICUM_DONE);
    CU_ASSERT_TRUE(scene_carries(&s, d, false));
    CU_ASSERT(d->bytes[card_parts[CARD_ENV].at] == 0x5a &&
              d->bytes[card_parts[CARD_ENV].at + card_parts[CARD_ENV].length - 1] == 0x5a);
    CU_ASSERT(d->bytes[card_parts[CARD_SERIAL].at] == 0xa5 &&
              d->bytes[card_parts[CARD_SERIAL].at + card_parts[CARD_SERIAL].length - 1] == 0xa5);
    /* one region */
    const char *regions[] = {"boot", NULL};
    uint8_t root = d->bytes[card_parts[CARD_ROOT].at];
    d->bytes[card_parts[CARD_ROOT].at] ^= 1;
    d->bytes[card_parts[CARD_BOOT].at] ^= 1;
    CU_ASSERT_EQUAL(
        scene_write(&s, m, (struct mosaicum_write){.regions = regions}, "/dev/sdb").status,
        MOSAICUM_DONE);
    CU_ASSERT(d->bytes[card_parts[CARD_BOOT].at] == s.image[card_parts[CARD_BOOT].at] &&
              d->bytes[card_parts[CARD_ROOT].at] != root);
    CU_ASSERT_TRUE(scene_has_table(&s, d));
    /* … told so, all of it goes */
    CU_ASSERT_EQUAL(
        scene_write(&s, m, (struct mosaicum_write){.all_regions = true}, "/dev/sdb").status,
        MOSAICUM_DONE);
    CU_ASSERT_TRUE(scene_carries(&s, d, true));
    /* another layout: no region of it is written alone */
    scene_noise(&s, m);
    struct result got = scene_write(&s, m, (struct mosaicum_write){.regions = regions}, "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_REFUSED);
    CU_ASSERT_STRING_EQUAL(got.rules, "write.other-layout");
    made_up_free(m);
    scene_end(&s);
}

static void a_larger_card_has_its_table_at_its_end(void) {
    struct scene s;
    scene_start(&s);
    for (int grow = 0; grow < 2; grow++) {
        struct made_up *m = scene_card(21, "");
        struct made_up_device *d = scene_noise(&s, m);
        CU_ASSERT_EQUAL(
            scene_write(&s, m, (struct mosaicum_write){.grow = grow}, "/dev/sdb").status,
            MOSAICUM_DONE);
        struct mos_vec problems = mos_vec_make(s.core.ctx.arena, sizeof(char *));
        struct mos_table_data t;
        struct mos_io io = mos_io_memory(s.core.ctx.arena, d->bytes, d->size);
        CU_ASSERT_PTR_EQUAL_FATAL(mos_table_read(&io, s.core.ctx.arena, &t, &problems),
                                  &mos_table_gpt);
        CU_ASSERT_EQUAL(problems.count, 0);
        CU_ASSERT_EQUAL(t.last_usable, d->size / 512 - 34);
        CU_ASSERT_EQUAL(memcmp(d->bytes + d->size - 512, "EFI PART", 8), 0);
        const struct mos_partition *p = mos_table_partition(&t, 2);
        CU_ASSERT_EQUAL(p->last_lba,
                        grow ? t.last_usable
                             : (card_parts[CARD_ROOT].at + card_parts[CARD_ROOT].length) / 512 - 1);
        CU_ASSERT_TRUE(scene_carries(&s, d, true));
        /* and it is still the layout of this image */
        struct result got =
            scene_write(&s, m, (struct mosaicum_write){.changed = true, .grow = grow}, "/dev/sdb");
        CU_ASSERT_PTR_NOT_NULL(strstr(got.results, "nothing differed"));
        made_up_free(m);
    }
    scene_end(&s);
}

static void one_bad_card_stops_no_other(void) {
    struct scene s;
    scene_start(&s);
    struct made_up *m = scene_computer(
        "disk sda 8:0 4M bus=usb port=1-1\ndisk sdb 8:16 4M bus=usb port=1-2\n"
        "disk sdc 8:32 5M bus=usb port=1-3\ndisk sdd 8:48 4M bus=usb port=1-4 ro\n"
        "disk sde 8:64 4M bus=usb port=1-5\ndisk sdf 8:80 4M bus=usb port=1-6 locked\n"
        "fault sda fails-write 1200K\n"
        "fault sde flips 2500K\n");
    const char *devices[] = {"/dev/sda", "/dev/sdb", "/dev/sdc",
                             "/dev/sdd", "/dev/sde", "/dev/sdf"};
    struct result got = scene_write(
        &s, m, (struct mosaicum_write){.devices = devices, .device_count = 6, .board = "curlew"},
        NULL);
    CU_ASSERT_EQUAL(got.status, MOSAICUM_SYSTEM);
    in_order(got.rules);
    CU_ASSERT_STRING_EQUAL(got.rules, "write.read-back write.read-only");
    for (size_t i = 0; i < 6; i++) {
        struct made_up_device *d = made_up_device(m, devices[i] + 5);
        bool good = i == 1 || i == 2;
        CU_ASSERT_EQUAL(d->bytes && scene_carries(&s, d, true) && scene_has_table(&s, d), good);
        CU_ASSERT((i != 3 && i != 5) || !d->writes);
    }
    made_up_free(m);
    scene_end(&s);
}

/* A card that begins anew behind its real end, loses what lies there, or is what it says. */
static void the_true_size_is_found(void) {
    static const struct {
        const char *fault, *says;
    } cards[] = {{"", ""},
                 {"fault sdb ends 1M\n", "really has 1.0 MB (1.0 MiB)"},
                 {"fault sdb ends 2M\n", "really has 2.0 MB (2.0 MiB)"},
                 {"fault sdb ends 2560K\n", "really has 2.6 MB (2.5 MiB)"},
                 {"fault sdb drops 3M 1M\n", "really has 3.1 MB (3.0 MiB)"}};
    struct scene s;
    scene_start(&s);
    for (size_t i = 0; i < sizeof cards / sizeof *cards; i++) {
        struct made_up *m = scene_card(4, cards[i].fault);
        scene_noise(&s, m);
        struct result got = scene_write(&s, m, (struct mosaicum_write){.what = ""}, "/dev/sdb");
        CU_ASSERT_EQUAL(got.status, *cards[i].says ? MOSAICUM_FINDINGS : MOSAICUM_DONE);
        if (!strstr(got.why, cards[i].says))
            fprintf(stderr, "\n%s: %s\n", cards[i].fault, got.why);
        CU_ASSERT_PTR_NOT_NULL(strstr(got.why, cards[i].says));
        made_up_free(m);
    }
    CU_ASSERT_FALSE(exists(path_in(s.folder, "written.jsonl"))); /* it is no write of a board */
    scene_end(&s);
}

/* One line a unit, the last one; a line that was cut off is told. */
static void the_record_tells_who_carries_what(void) {
    struct scene s;
    scene_start(&s);
    struct made_up *m = scene_card(4, "");
    scene_noise(&s, m);
    static const char *const units[] = {"jetty-1", "jetty-2", "jetty-1", NULL};
    for (size_t i = 0; i < 4; i++)
        CU_ASSERT_EQUAL(
            scene_write(&s, m, (struct mosaicum_write){.unit = units[i]}, "/dev/sdb").status,
            MOSAICUM_DONE);
    const char *path = path_in(s.folder, "written.jsonl");
    for (int cut = 0; cut < 2; cut++) {
        struct mosaicum_options o = {.host = &s.host, .workspace = s.folder};
        mosaicum *run = mosaicum_new(&o);
        CU_ASSERT_EQUAL(mosaicum_list_written(run), cut ? MOSAICUM_USAGE : MOSAICUM_DONE);
        CU_ASSERT_EQUAL(mosaicum_table_at(run, 0)->row_count, 3);
        CU_ASSERT_EQUAL(mosaicum_error(run) != NULL, cut);
        mosaicum_free(run);
        size_t length;
        char *text = read_whole(path, &length);
        write_file(path, text, length - 40); /* as a crash leaves it */
        free(text);
        CU_ASSERT_EQUAL(
            scene_write(&s, m, (struct mosaicum_write){.unit = "jetty-3"}, "/dev/sdb").status,
            MOSAICUM_DONE);
    }
    made_up_free(m);
    scene_end(&s);
}

/* A made-up device is no file of this computer. */
/* An image is compared with a device of its size, and a larger one; any byte that differs is told.
 */
static void a_card_is_compared_with_its_image(void) {
    static const uint64_t places[] = {40 * KIB, 600 * KIB, 1100 * KIB, 2500 * KIB, 900 * KIB};
    struct scene s;
    scene_start(&s);
    scene_has_device_files(&s);
    for (unsigned mib = 4; mib < 200; mib += 95) {
        struct made_up *m = scene_card(mib, "");
        struct made_up_device *d = scene_noise(&s, m);
        memset(d->bytes, 0, (size_t)d->size); /* what does not matter is as in the image */
        CU_ASSERT_EQUAL(scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb").status,
                        MOSAICUM_DONE);
        for (size_t i = 0; i <= sizeof places / sizeof *places; i++) {
            if (i)
                d->bytes[places[i - 1]] ^= 1;
            struct mosaicum_options o = {.host = &s.host, .workspace = s.folder};
            mosaicum *run = mosaicum_new(&o);
            enum mosaicum_status status = mosaicum_compare(run, s.path, "/dev/sdb");
            if (status != (i ? MOSAICUM_FINDINGS : MOSAICUM_DONE))
                fprintf(stderr, "\n%u MiB, %zu: %d %s\n", mib, i, (int)status,
                        mosaicum_error(run) ? mosaicum_error(run) : "");
            CU_ASSERT_EQUAL(status, i ? MOSAICUM_FINDINGS : MOSAICUM_DONE);
            mosaicum_free(run);
            if (i)
                d->bytes[places[i - 1]] ^= 1;
        }
        made_up_free(m);
    }
    scene_end(&s);
}

/* ---- a plain user ---- */

/* Who may not open a device gets it from the system's storage service; nobody is asked for what may
 * not be written. */
static void what_is_lent_is_written(void) {
    static const struct {
        const char *more;
        bool asked, written;
    } cases[] = {
        {"locked lent\n", true, true},
        {"locked\n", true, false},
        {"lent\n", false, true},
        {"locked lent\nmount self 8:16 /mnt\n", false, false},
        {"locked lent\nmount self 8:16 /usr\n", false, false},
        {"locked lent ro\n", true, false},
    };
    struct scene s;
    scene_start(&s);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[200];
        snprintf(
            text, sizeof text,
            "disk sdb 8:16 4M bus=usb port=1-2 model=Reader serial=R1 %sdisk sdc 8:32 4M bus=usb "
            "locked lent\n",
            cases[i].more);
        struct made_up *m = scene_computer(text);
        struct made_up_device *d = made_up_device(m, "sdb");
        struct result got = scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb");
        CU_ASSERT_EQUAL(got.status == MOSAICUM_DONE, cases[i].written);
        CU_ASSERT_EQUAL(d->asked, cases[i].asked);
        CU_ASSERT_EQUAL(d->writes > 0, cases[i].written);
        CU_ASSERT_EQUAL(made_up_device(m, "sdc")->asked, 0); /* it was not named */
        CU_ASSERT(!cases[i].written || scene_carries(&s, d, true));
        made_up_free(m);
    }
    scene_end(&s);
}

/* ---- consent ---- */

/* ---- an image that changes ---- */

static struct scene *changing;

static bool changes_the_image(void *self, const char *device, const char *token) {
    (void)self;
    changing->image[card_parts[CARD_ROOT].at] ^= 1;
    write_file(changing->path, changing->image, CARD_SIZE);
    return device && token;
}

/* What was hashed is what must be on the medium: an image that changes after that is no build. */
static void an_image_must_stay_as_it_is(void) {
    struct scene s;
    scene_start(&s);
    changing = &s;
    struct made_up *m = scene_card(4, "");
    struct made_up_device *d = scene_noise(&s, m);
    struct result got =
        scene_write(&s, m, (struct mosaicum_write){.ask = changes_the_image}, "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_SYSTEM);
    CU_ASSERT_PTR_NOT_NULL(strstr(got.error, s.path));
    CU_ASSERT_FALSE(scene_has_table(&s, d));
    made_up_free(m);
    scene_end(&s);
}

/* What a device held is kept for each content of it: the next write replaces nothing of that. */
static void what_was_saved_stays(void) {
    struct scene s;
    scene_start(&s);
    struct made_up *m = scene_card(4, "");
    struct made_up_device *d = scene_noise(&s, m);
    uint8_t *old = malloc(MIB);
    memcpy(old, d->bytes, MIB);
    for (int i = 0; i < 3; i++)
        CU_ASSERT_EQUAL(
            scene_write(&s, m, (struct mosaicum_write){.changed = i == 2}, "/dev/sdb").status,
            MOSAICUM_DONE);
    write_file(path_in(s.folder, "old"), old, MIB);
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && for f in written/*/*/start.bin; do cmp -s old $f && exit 0; "
                        "done; exit 1",
                        s.folder));
    free(old);
    made_up_free(m);
    scene_end(&s);
}

/* A member of something larger says so itself, whether or not that runs. */
static void members_are_refused(void) {
    static const struct {
        uint64_t at;
        const char *text;
    } members[] = {{0, "LABELONE"},
                   {512, "LABELONE"},
                   {1536, "LABELONE"},
                   {0, "\xfc\x4e\x2b\xa9"},
                   {4096, "\xfc\x4e\x2b\xa9"},
                   {CARD_SIZE - 8 * KIB, "\xfc\x4e\x2b\xa9"},
                   {CARD_SIZE - 64 * KIB, "\xfc\x4e\x2b\xa9"},
                   {4096 + 24, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca"}};
    struct scene s;
    scene_start(&s);
    for (size_t i = 0; i < sizeof members / sizeof *members; i++) {
        struct made_up *m = scene_card(4, "");
        struct made_up_device *d = scene_noise(&s, m);
        memset(d->bytes, 0, (size_t)d->size);
        memcpy(d->bytes + members[i].at, members[i].text, strlen(members[i].text));
        struct result got = scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb");
        CU_ASSERT_EQUAL(got.status, MOSAICUM_REFUSED);
        CU_ASSERT_STRING_EQUAL(got.rules, "write.in-use");
        CU_ASSERT_EQUAL(d->writes, 0);
        made_up_free(m);
    }
    scene_end(&s);
}

/* ---- what comes and goes ---- */

static bool plug_and_pull(struct made_up *m, unsigned step) {
    switch (step) {
    case 2:
        return made_up_plug(m, "disk sdz 65:144 16M bus=usb port=1-4 model=Stick sequence=40");
    case 3:
        return made_up_plug(m, "disk sdy 65:128 16M bus=usb port=1-5 ro sequence=41");
    case 5:
        made_up_pull(m, "sdz");
        return true;
    case 6: /* another one in its place */
        return made_up_plug(m, "disk sdz 65:144 16M bus=usb port=1-4 model=Stick sequence=42");
    default:
        return step < 8;
    }
}

static bool note_event(void *self, bool here, const struct mosaicum_cell *cells) {
    char *to = self;
    snprintf(to + strlen(to), 300 - strlen(to), "%s%s %s %zu\n", here ? "+" : "-", cells[0].text,
             cells[1].text, strlen(cells[2].text));
    return true;
}

static void what_comes_and_goes_is_told(void) {
    struct scene s;
    scene_start(&s);
    char told[300] = "";
    struct made_up *m = scene_computer(notebook);
    made_up_when_waiting(m, plug_and_pull);
    s.host.computer = made_up_computer(m);
    struct mosaicum_options o = {.host = &s.host};
    mosaicum *run = mosaicum_new(&o);
    CU_ASSERT_EQUAL(mosaicum_devices_wait(run, note_event, told), MOSAICUM_DONE);
    CU_ASSERT_STRING_EQUAL(told, "+/dev/sdz yes 4\n+/dev/sdy no: read-only 4\n-/dev/sdz yes 4\n"
                                 "+/dev/sdz yes 4\n");
    mosaicum_free(run);
    made_up_free(m);
    scene_end(&s);
}

/* Whatever tells two media apart tells their tokens apart. */
static void tokens_tell_media_apart(void) {
    struct core c;
    core_start(&c);
    const struct mos_block base = {.name = "sdb",
                                   .port = "1-2",
                                   .lun = "0",
                                   .model = "Reader",
                                   .serial = "R1",
                                   .size = 4 * MIB,
                                   .sequence = 7};
    struct mos_block all[8];
    char tokens[9][MOS_TOKEN_LETTERS + 1];
    for (size_t i = 0; i < 8; i++)
        all[i] = base;
    all[1].port = "1-3";
    all[2].lun = "1";
    all[3].model = "Stick";
    all[4].serial = "R2";
    all[5].size++;
    all[6].sequence++;
    all[7].name = "sdc";
    for (size_t i = 0; i < 9; i++) {
        CU_ASSERT_TRUE(mos_media_token(c.ctx.arena, i < 8 ? &all[i] : &base, i < 8 ? "aa" : "ab", 2,
                                       tokens[i]));
        for (size_t k = 0; k < i; k++)
            CU_ASSERT_STRING_NOT_EQUAL(tokens[i], tokens[k]);
        CU_ASSERT_EQUAL(strspn(tokens[i], "ABCDEFGHJKLMNPQRSTUVWXYZ"), MOS_TOKEN_LETTERS);
    }
    core_end(&c);
}

static void only_the_right_token_consents(void) {
    struct scene s;
    scene_start(&s);
    struct made_up *m =
        scene_computer("disk sdb 8:16 4M bus=usb port=1-2 lun=0 model=Reader serial=R1\n"
                       "disk sdc 8:32 4M bus=usb port=1-2 lun=1 model=Reader serial=R1\n");
    char b[5], c[5], lower[5];
    scene_token(&s, m, "/dev/sdb", b);
    scene_token(&s, m, "/dev/sdc", c);
    CU_ASSERT(strlen(b) == 4 && strlen(c) == 4 && strcmp(b, c) != 0);
    for (size_t i = 0; i < 5; i++)
        lower[i] = (char)(b[i] ? b[i] | 0x20 : 0);
    const char *const tries[] = {c, "", "A", "ABCDE", "abcd"};
    for (size_t i = 0; i < 5; i++) {
        const char *yes[] = {tries[i], NULL};
        struct result got = scene_write(&s, m, (struct mosaicum_write){.yes = yes}, "/dev/sdb");
        CU_ASSERT_EQUAL(got.status, MOSAICUM_REFUSED);
        CU_ASSERT_PTR_NOT_NULL(strstr(got.error, b)); /* it says which one it is */
        CU_ASSERT_EQUAL(made_up_device(m, "sdb")->writes, 0);
    }
    made_up_device(m, "sdb")->sequence++; /* another card in the same slot */
    const char *yes[] = {lower, NULL};
    CU_ASSERT_EQUAL(scene_write(&s, m, (struct mosaicum_write){.yes = yes}, "/dev/sdb").status,
                    MOSAICUM_REFUSED);
    made_up_device(m, "sdb")->sequence--;
    CU_ASSERT_EQUAL(scene_write(&s, m, (struct mosaicum_write){.yes = yes}, "/dev/sdb").status,
                    MOSAICUM_DONE);
    CU_ASSERT_EQUAL(scene_write(&s, m, (struct mosaicum_write){.yes = yes}, "/dev/sdb").status,
                    MOSAICUM_REFUSED); /* it holds something else now */
    made_up_free(m);
    scene_end(&s);
}

SUITE(media_suite, {"the guard refuses what must stay", guard_refuses_what_must_stay},
      {"the order is safe", the_order_is_safe}, {"a start behind zeros", a_start_behind_zeros},
      {"faults are told", faults_are_told}, {"interrupted, it goes on", interrupted_it_goes_on},
      {"only changes are written", only_changes_are_written},
      {"what is not ours stays", what_is_not_ours_stays},
      {"a larger card has its table at its end", a_larger_card_has_its_table_at_its_end},
      {"one bad card stops no other", one_bad_card_stops_no_other},
      {"a card is compared with its image", a_card_is_compared_with_its_image},
      {"the true size is found", the_true_size_is_found},
      {"the record tells who carries what", the_record_tells_who_carries_what},
      {"an image must stay as it is", an_image_must_stay_as_it_is},
      {"what was saved stays", what_was_saved_stays}, {"members are refused", members_are_refused},
      {"what comes and goes is told", what_comes_and_goes_is_told},
      {"what is lent is written", what_is_lent_is_written},
      {"tokens tell media apart", tokens_tell_media_apart},
      {"only the right token scene_consents", only_the_right_token_consents});
