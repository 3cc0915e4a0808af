/* Commands that start something: source, booti, bootz, bootm, sysboot, boot. */
#include "loaders/u-boot/boot.h"

#include "base/bytes.h"
#include "loaders/u-boot/legacy.h"

#include <string.h>

enum { MOST_SCRIPT = 1 << 20 };

/* ---- scripts ---- */

/* A legacy script's text: behind a list of lengths that ends in 0. */
static const char *legacy_text(const uint8_t *data, size_t size, size_t *length) {
    size_t at = 0;
    *length = size >= 4 ? mos_be32(data) : 0;
    while (at + 4 <= size && mos_be32(data + at))
        at += 4;
    at += 4;
    if (at > size)
        return NULL;
    *length = (size_t)mos_min(*length, size - at);
    return (const char *)data + at;
}

static const char *script_in_legacy(struct sim *s, uint64_t at, size_t *length) {
    uint8_t head[MOS_LEGACY_HEADER];
    struct mos_legacy h;
    const char *problem;
    sim_ram_read(s, at, head, sizeof head);
    if (!mos_legacy_read(head, sizeof head, &h, &problem)) {
        sim_trouble(s, "Bad header crc");
        return NULL;
    }
    uint8_t *all = sim_ram_copy(s, at, MOS_LEGACY_HEADER + (uint64_t)h.size, MOST_SCRIPT);
    if (!all || !mos_legacy_read(all, MOS_LEGACY_HEADER + h.size, &h, &problem)) {
        sim_trouble(s, "Bad data crc");
        return NULL;
    }
    if (h.type != MOS_LEGACY_SCRIPT) {
        sim_trouble(s, "Bad image type");
        return NULL;
    }
    const char *text = legacy_text(all + MOS_LEGACY_HEADER, h.size, length);
    if (!text || !*length)
        sim_trouble(s, "Empty Script");
    return text && *length ? text : NULL;
}

static const char *script_in_parcel(struct sim *s, uint64_t at, const char *name, size_t *length) {
    struct mos_parcel *p = ub_parcel(s, at);
    const char *names;
    if (!p)
        return NULL;
    if (!name) { /* what starts by itself is an entry, and no script */
        sim_trouble(s, "No FIT subimage unit name");
        return NULL;
    }
    const struct mos_parcel_part *part = mos_parcel_part(p, name);
    if (!part || !part->type || strcmp(part->type, "script") != 0) {
        sim_trouble(s, "Can't find '%s' FIT subimage", name);
        return NULL;
    }
    if (!mos_parcel_check_part(s->arena, part, &names)) {
        sim_trouble(s, "Bad Data Hash");
        return NULL;
    }
    *length = part->length;
    return (const char *)part->data;
}

int ub_source(struct sim *s, uint64_t at, const char *part) {
    uint8_t head[MOS_LEGACY_HEADER];
    const char *text = NULL;
    size_t length = 0;
    sim_print(s, "## Executing script at %08llx\n", (unsigned long long)at);
    if (sim_aborts(s, at))
        return 1;
    sim_ram_read(s, at, head, sizeof head);
    if (mos_legacy_is(head, sizeof head))
        text = script_in_legacy(s, at, &length);
    else if (mos_dt_is_blob(head, sizeof head))
        text = script_in_parcel(s, at, part, &length);
    else
        sim_trouble(s, "Wrong image format for \"source\" command");
    if (!text)
        return 1;
    struct sim_thing *t = sim_ram_at(s, at);
    if (t)
        t->spent = true; /* the loader runs a copy */
    sim_event(s, MOS_EVENT_RUN, at, length, NULL, "script %s", t ? t->what : "");
    sim_try(s, NULL);
    text = mos_printf(s->arena, "%.*s\n", (int)length, text);
    return ub_run_nested(s, NULL, text, 0);
}

/* "0x48000000", "48000000:name", "48000000#name" */
static bool split_address(struct sim *s, const char *text, uint64_t *at, const char **name) {
    size_t n = strcspn(text, ":#");
    *name = text[n] && text[n + 1] ? text + n + 1 : NULL;
    return sim_address(mos_strndup(s->arena, text, n), at);
}

static uint64_t load_address(const struct sim *s) {
    const char *usual = sim_get(s, "loadaddr");
    uint64_t at = 0;
    if (usual)
        sim_address(usual, &at);
    return at;
}

static int run_source(struct sim *s, int argc, const char *const *argv) {
    uint64_t at = load_address(s);
    const char *part = NULL;
    if (argc > 2 || (argc > 1 && !split_address(s, argv[1], &at, &part)))
        return -1;
    return ub_source(s, at, part);
}

/* ---- kernels ---- */

static int run_booti(struct sim *s, int argc, const char *const *argv) {
    uint64_t at = load_address(s);
    if (argc > 1 && !sim_address(argv[1], &at))
        return -1;
    return ub_boot_plain(s, at, argc > 2 ? argv[2] : NULL, argc > 3 ? argv[3] : NULL,
                         argv[0][4] == 'z');
}

static int bootm_step(struct sim *s, int argc, const char *const *argv) {
    uint64_t at = load_address(s);
    const char *choice = NULL;
    bool known = true;
    if (strcmp(argv[1], "start") != 0) {
        int code = ub_bootm_step(s, argv[1], &known);
        return known ? code : -1;
    }
    if (argc > 2)
        split_address(s, argv[2], &at, &choice);
    return ub_bootm_start(s, at, choice, argc > 2 && strchr(argv[2], ':'),
                          argc > 3 ? argv[3] : NULL, argc > 4 ? argv[4] : NULL, "bootm");
}

static int run_bootm(struct sim *s, int argc, const char *const *argv) {
    uint64_t at = load_address(s);
    const char *choice = NULL;
    if (argc > 1 && !split_address(s, argv[1], &at, &choice))
        return bootm_step(s, argc, argv);
    bool part = argc > 1 && strchr(argv[1], ':');
    return ub_boot_container(s, at, choice, part, argc > 2 ? argv[2] : NULL,
                             argc > 3 ? argv[3] : NULL, "bootm");
}

static int run_sysboot(struct sim *s, int argc, const char *const *argv) {
    uint64_t at = 0;
    int i = argc > 1 && strcmp(argv[1], "-p") == 0 ? 2 : 1;
    if (argc < i + 2)
        return -1;
    const char *address = argc > i + 3 ? argv[i + 3] : sim_get(s, "pxefile_addr_r");
    const char *file = argc > i + 4 ? argv[i + 4] : sim_get(s, "bootfile");
    if (!address)
        return sim_trouble(s, "missing environment variable: pxefile_addr_r");
    if (!sim_address(address, &at) || !file)
        return -1;
    return ub_menu(s, argv[i], argv[i + 1], at, file);
}

static int run_boot(struct sim *s, int argc, const char *const *argv) {
    (void)argc, (void)argv;
    return ub_run_variable(s, "bootcmd");
}

static int run_iminfo(struct sim *s, int argc, const char *const *argv) {
    uint64_t at = load_address(s);
    uint8_t head[MOS_LEGACY_HEADER];
    const char *problem;
    struct mos_legacy h;
    if (argc > 1 && !sim_address(argv[1], &at))
        return -1;
    sim_ram_read(s, at, head, sizeof head);
    sim_print(s, "\n## Checking Image at %08llx ...\n", (unsigned long long)at);
    if (sim_aborts(s, at))
        return 1;
    if (mos_legacy_is(head, sizeof head)) {
        sim_print(s, "   Legacy image found\n");
        if (!mos_legacy_read(head, sizeof head, &h, &problem))
            return sim_trouble(s, "   Bad Header Checksum");
        ub_list_legacy(s, at, &h);
        uint8_t *all = sim_ram_copy(s, at, MOS_LEGACY_HEADER + (uint64_t)h.size, 1 << 30);
        sim_print(s, "   Verifying Checksum ... ");
        if (!all || !mos_legacy_read(all, MOS_LEGACY_HEADER + h.size, &h, &problem))
            return sim_trouble(s, "   Bad Data CRC");
        sim_print(s, "OK\n");
        return 0;
    }
    struct mos_parcel *p = mos_dt_is_blob(head, sizeof head) ? ub_parcel(s, at) : NULL;
    return p ? ub_list_parcel(s, p, at) : sim_trouble(s, "Unknown image format!");
}

/* imxtract ADDRESS PART [TO]: one part of an image of several. */
static int run_imxtract(struct sim *s, int argc, const char *const *argv) {
    uint64_t at = argc > 1 ? sim_number(argv[1], NULL, 16) : load_address(s);
    uint8_t head[MOS_LEGACY_HEADER];
    uint64_t from = 0, length = 0;
    if (argc < 3)
        return -1;
    if (sim_aborts(s, at))
        return 1;
    sim_ram_read(s, at, head, sizeof head);
    if (mos_legacy_is(head, sizeof head)) {
        if (ub_legacy_part(s, at, (unsigned)sim_number(argv[2], NULL, 16), &from, &length))
            return 1;
    } else {
        const char *names = "";
        struct mos_parcel *p = mos_dt_is_blob(head, sizeof head) ? ub_parcel(s, at) : NULL;
        const struct mos_parcel_part *part = p ? mos_parcel_part(p, argv[2]) : NULL;
        if (!p)
            return sim_trouble(s, "Invalid image type for imxtract");
        sim_print(s, "## Copying '%s' subimage from FIT image at %08llx ...\n", argv[2],
                  (unsigned long long)at);
        if (!part || !part->data)
            return sim_trouble(s, "Can't find '%s' FIT subimage", argv[2]);
        bool good = mos_parcel_check_part(s->arena, part, &names);
        sim_print(s, "%s", names);
        if (!good)
            return sim_trouble(s, "Bad Data Hash");
        sim_print(s, "   Loading part 0 ... OK\n");
        from = at + (uint64_t)(part->data - p->bytes);
        length = part->length;
    }
    if (argc > 3) {
        uint64_t to = sim_number(argv[3], NULL, 16);
        uint8_t *bytes = sim_ram_copy(s, from, length, 64 << 20);
        sim_ram_claim(s, to, length, "a part of an image");
        if (bytes)
            sim_ram_write(s, to, bytes, (size_t)length);
    }
    sim_set_number(s, "fileaddr", from);
    sim_set_number(s, "filesize", length);
    return 0;
}

static int run_go(struct sim *s, int argc, const char *const *argv) {
    uint64_t at;
    if (argc < 2 || !sim_address(argv[1], &at))
        return -1;
    const struct sim_thing *t = sim_ram_at(s, at);
    sim_undecided(s, "what the program at 0x%llx does (%s)", (unsigned long long)at,
                  t ? t->what : "nothing was put there");
    s->stop = SIM_HANGS;
    return 0;
}

const struct ub_command ub_commands_boot[] = {
    {"source", run_source, 2},
    {"booti", run_booti, 4},
    {"bootz", run_booti, 4},
    {"bootm", run_bootm, 0},
    {"sysboot", run_sysboot, 7},
    {"boot", run_boot, 1},
    {"bootd", run_boot, 1},
    {"iminfo", run_iminfo, 0},
    {"imxtract", run_imxtract, 4},
    {"go", run_go, 0},
    {NULL, NULL, 0},
};
