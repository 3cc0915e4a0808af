/* The loader's variables: where they come from, and the commands about them. */
#include "loaders/u-boot/environment.h"
#include "loaders/u-boot/inside.h"

#include "base/bytes.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_BLOCK = 1 << 20 };

/* ---- at the start ---- */

static void take_all(struct sim *s, const struct mos_map *from) {
    for (size_t i = 0; i < from->count; i++) {
        const struct mos_loader_variable *v = from->items[i].value;
        sim_set(s, v->name, v->value);
    }
}

/* One copy of a stored block: its variables and flag; false: it is damaged. */
static bool read_copy(struct sim *s, struct mos_io *io, const struct mos_rig_environment *e,
                      uint64_t at, struct mos_map *out, uint8_t *flag) {
    uint8_t *data = mos_alloc(s->arena, (size_t)e->size);
    bool flag_byte;
    if (e->size < 8 || e->size > MOST_BLOCK || mos_io_read(io, data, (size_t)e->size, at))
        return false;
    *flag = data[4];
    return mos_environment_read(s->arena, data, (size_t)e->size, out, &flag_byte) &&
           flag_byte == e->flag_byte;
}

/* The file of a FAT partition as bytes. */
static bool open_file(struct sim *s, const struct mos_rig_environment *e, struct mos_io *io) {
    size_t length;
    struct sim_volume *v = sim_volume(s, sim_disk_of(s, e->medium), e->partition);
    const struct sim_file *f = v->readable ? sim_file(s, v, e->file) : NULL;
    uint8_t *bytes = f ? sim_file_bytes(s, v, f, MOST_BLOCK, &length) : NULL;
    if (!bytes || length < e->size)
        return false;
    *io = mos_io_memory(s->arena, bytes, length);
    return true;
}

static bool read_stored(struct sim *s, const struct mos_rig_environment *e) {
    struct mos_map a, b;
    uint8_t flag_a = 0, flag_b = 0;
    struct mos_io file, *io = e->medium->io;
    if (e->file) {
        if (!open_file(s, e, &file))
            return false;
        io = &file;
    }
    bool two = e->copy_at != UINT64_MAX;
    bool good_a = read_copy(s, io, e, e->at, &a, &flag_a);
    bool good_b = two && read_copy(s, io, e, e->copy_at, &b, &flag_b);
    if (!good_a && !good_b)
        return false;
    /* of two good copies the one with the later count, which wraps round */
    bool second = good_b && (!good_a || (uint8_t)(flag_b - flag_a - 1) < 127);
    sim_event(s, MOS_EVENT_READ, 0, e->size, e->medium->name, "%s%s", e->what,
              two && second ? ", second copy" : "");
    if (two && !(good_a && good_b))
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, e->medium->name,
                  "the %s copy of the environment is damaged, the other one is used",
                  good_a ? "second" : "first");
    take_all(s, second ? &b : &a);
    return true;
}

static void read_environment(struct sim *s) {
    const struct mos_rig *m = s->rig;
    if (s->has_stored) {
        for (size_t i = 0; i < s->stored.count; i++)
            sim_set(s, s->stored.items[i].key, s->stored.items[i].value);
        sim_event(s, MOS_EVENT_READ, 0, 0, NULL, "the environment as it was stored last");
        return;
    }
    for (size_t i = 0; i < m->environment_count; i++)
        if (read_stored(s, &m->environments[i]))
            return;
    if (m->environment_count)
        sim_trouble(s, "*** Warning - bad CRC, using default environment");
    if (m->compiled) {
        take_all(s, m->compiled);
        sim_event(s, MOS_EVENT_READ, 0, 0, NULL, "the loader's own variables");
    } else {
        sim_undecided(s, "which variables the loader has of its own: it uses them without a stored "
                         "environment (--loader FILE, or loader: facts: {defaults: FILE})");
    }
}

void ub_environment_start(struct sim *s) {
    s->env = mos_map_make(s->arena);
    own(s)->locals = mos_map_make(s->arena);
    read_environment(s);
    for (const char *const *set = s->rig->set; set && set[0]; set += 2)
        sim_set(s, set[0], set[1]);
}

int ub_environment_save(struct sim *s) {
    sim_print(s, "Saving Environment to storage... OK\n");
    sim_event(s, MOS_EVENT_STORE, 0, 0, NULL, "the environment is stored");
    if (!s->rig->environment_count)
        sim_unknown(s, "where the loader stores its environment");
    s->stored = mos_map_make(s->arena);
    for (size_t i = 0; i < s->env.count; i++)
        mos_map_set(&s->stored, s->env.items[i].key, s->env.items[i].value);
    s->has_stored = s->out->stored = true;
    return 0;
}

/* ---- commands ---- */

static int run_run(struct sim *s, int argc, const char *const *argv) {
    if (argc < 2)
        return -1;
    for (int i = 1; i < argc && !s->stop; i++)
        if (ub_run_variable(s, argv[i]))
            return 1;
    return 0;
}

static int run_setenv(struct sim *s, int argc, const char *const *argv) {
    struct mos_buf value = {.arena = s->arena};
    int at = argc > 1 && strcmp(argv[1], "-f") == 0 ? 2 : 1;
    if (argc <= at)
        return -1;
    if (strchr(argv[at], '='))
        return sim_trouble(s, "## Error: illegal character '='in variable name \"%s\"", argv[at]);
    for (int i = at + 1; i < argc; i++)
        mos_buf_printf(&value, "%s%s", i > at + 1 ? " " : "", argv[i]);
    sim_set(s, argv[at], argc > at + 1 ? mos_buf_string(&value) : NULL);
    return 0;
}

static int by_key(const void *a, const void *b) {
    return strcmp(((const struct mos_map_item *)a)->key, ((const struct mos_map_item *)b)->key);
}

/* Everything that is set, in order of names. */
static struct mos_vec sorted(struct sim *s) {
    struct mos_vec all = mos_vec_make(s->arena, sizeof(struct mos_map_item));
    for (size_t i = 0; i < s->env.count; i++)
        if (s->env.items[i].value)
            *(struct mos_map_item *)mos_vec_push(&all) = s->env.items[i];
    if (all.count)
        qsort(all.items, all.count, sizeof(struct mos_map_item), by_key);
    return all;
}

static int run_printenv(struct sim *s, int argc, const char *const *argv) {
    int code = 0;
    struct mos_vec all = sorted(s);
    for (size_t i = 0; argc < 2 && i < all.count; i++) {
        const struct mos_map_item *v = mos_vec_at(&all, i);
        sim_print(s, "%s=%s\n", v->key, (const char *)v->value);
    }
    for (int i = 1; i < argc; i++) {
        const char *value = sim_get(s, argv[i]);
        if (strcmp(argv[i], "-a") == 0)
            continue;
        if (value)
            sim_print(s, "%s=%s\n", argv[i], value);
        else
            code = sim_trouble(s, "## Error: \"%s\" not defined", argv[i]);
    }
    return code;
}

static int run_saveenv(struct sim *s, int argc, const char *const *argv) {
    (void)argc, (void)argv;
    return ub_environment_save(s);
}

static int env_default(struct sim *s, int argc, const char *const *argv) {
    bool all = false;
    for (int i = 2; i < argc; i++)
        all |= strcmp(argv[i], "-a") == 0;
    if (argc < 3)
        return -1;
    if (!s->rig->compiled) {
        sim_unknown(s, "the loader's own variables, which `env default` goes back to");
        return 0;
    }
    if (all) {
        sim_print(s, "## Resetting to default environment\n");
        s->env = mos_map_make(s->arena);
        take_all(s, s->rig->compiled);
        return 0;
    }
    for (int i = 2; i < argc; i++) {
        const struct mos_loader_variable *v = mos_map_get(s->rig->compiled, argv[i]);
        if (*argv[i] != '-' && v)
            sim_set(s, argv[i], v->value);
    }
    return 0;
}

/* Variables that are taken in: all, or those of a list. */
struct intake {
    struct sim *s;
    struct mos_arena *arena; /* for as long as it takes */
    const char *const *names;
    size_t count; /* 0: all */
    bool *met;
};

static void take_in(struct intake *in, const char *name, const char *value) {
    bool wanted = !in->count;
    for (size_t i = 0; i < in->count; i++)
        if (strcmp(in->names[i], name) == 0)
            wanted = in->met[i] = true;
    if (wanted)
        sim_set(in->s, name, value);
}

/* With -d, those of the list that did not come are taken away. */
static void end_intake(const struct intake *in) {
    for (size_t i = 0; i < in->count; i++) {
        if (in->met[i])
            continue;
        sim_print(in->s,
                  sim_get(in->s, in->names[i])
                      ? "WARNING: '%s' not in imported env, deleting it!\n"
                      : "WARNING: '%s' neither in running nor in imported env!\n",
                  in->names[i]);
        sim_set(in->s, in->names[i], NULL);
    }
}

/* name=value lines: a backslash takes the next character, line ends included, as it is. */
static void import_text(struct intake *in, const char *text) {
    struct mos_buf line = {.arena = in->arena};
    for (;; text++) {
        if (*text == '\\' && text[1]) {
            mos_buf_char(&line, *++text);
        } else if (*text && *text != '\n') {
            mos_buf_char(&line, *text);
        } else {
            const char *all = mos_buf_string(&line), *equals = strchr(all, '=');
            if (equals && equals != all && *all != '#')
                take_in(in, mos_strndup(in->arena, all, (size_t)(equals - all)),
                        equals[1] ? equals + 1 : NULL);
            line = (struct mos_buf){.arena = in->arena};
            if (!*text)
                return;
        }
    }
}

/* Where the variables end that stand at the start of `size` bytes: at a zero behind the end of one,
 * which is a line end in a text, else a zero. */
static uint64_t variables_end(const uint8_t *data, uint64_t size, char form) {
    assert(size);
    const uint8_t *end = data + size - 1, *last = data;
    for (; last < end && (last = memchr(last, form == 't' ? '\n' : 0, (size_t)(end - last)));
         last++)
        if (!last[1])
            return (uint64_t)(last - data);
    return size - 1;
}

/* *size bytes of RAM and a zero; of what has its own end (form: of which kind; 0: it has none) no
 * more than up to a good way behind that, which is *size then. */
static uint8_t *read_block(struct sim *s, struct mos_arena *arena, uint64_t at, uint64_t *size,
                           char form) {
    for (uint64_t n = form == 't' || form == 'b' ? 4096 : *size;; n *= 8) {
        n = mos_min(n, *size);
        uint8_t *data = mos_alloc(arena, (size_t)n + 1);
        sim_charge(s, 8 * n);
        sim_ram_read(s, at, data, (size_t)n);
        if (n == *size || variables_end(data, n, form) + 1 < n) {
            *size = n;
            return data;
        }
    }
}

static void say_size(struct sim *s, const uint8_t *data, uint64_t size, char form) {
    uint64_t n = variables_end(data, size, form);
    if (n + 1 == size)
        sim_print(s, "## Warning: Input data exceeds %u bytes - truncated\n", MOST_BLOCK);
    n += n + 1 == size ? 3 : 2;
    sim_print(s, "## Info: input data size = %llu = 0x%llX\n", (unsigned long long)n,
              (unsigned long long)n);
}

static int import_block(struct intake *in, uint8_t *data, uint64_t size, char form, bool clears) {
    struct sim *s = in->s;
    struct mos_map block;
    bool flag_byte;
    if (form == 'c' && !mos_environment_read(in->arena, data, (size_t)size, &block, &flag_byte))
        return sim_trouble(s, "## Error: bad CRC, import failed");
    if (clears && !in->count) /* with a list nothing else is touched */
        s->env = mos_map_make(s->arena);
    if (form == 't') {
        import_text(in, (const char *)data);
    } else if (form == 'c') {
        for (size_t k = 0; k < block.count; k++) {
            const struct mos_loader_variable *v = block.items[k].value;
            take_in(in, v->name, v->value);
        }
    } else {
        for (char *p = (char *)data; *p; p += strlen(p) + 1) {
            char *equals = strchr(p, '=');
            if (equals)
                take_in(in, mos_strndup(in->arena, p, (size_t)(equals - p)), equals + 1);
        }
    }
    if (clears)
        end_intake(in);
    return 0;
}

static int env_import(struct sim *s, int argc, const char *const *argv) {
    char form = 't';
    bool clears = false;
    int i = 2;
    uint64_t at, size = 0;
    for (; i < argc && *argv[i] == '-'; i++)
        if (strchr("bct", argv[i][1]))
            form = argv[i][1];
        else if (argv[i][1] == 'd')
            clears = true;
    if (i >= argc || !sim_address(argv[i], &at))
        return -1;
    if (sim_aborts(s, at))
        return 1;
    if (i + 1 < argc && strcmp(argv[i + 1], "-") != 0)
        size = sim_number(argv[i + 1], NULL, 16);
    else if (form == 'c')
        return sim_trouble(s, "## Error: external checksum format must pass size");
    bool sought = !size;
    if (sought)
        size = MOST_BLOCK;
    if (size > 4 * MOST_BLOCK || !sim_ram_is(s, at, size))
        return 1;
    struct intake in = {.s = s, .arena = mos_arena_child(s->arena), .names = argv + i + 2};
    in.count = argc > i + 2 ? (size_t)(argc - i - 2) : 0;
    in.met = mos_alloc_array(in.arena, in.count + 1, sizeof *in.met);
    uint8_t *data = read_block(s, in.arena, at, &size, sought ? form : 0);
    if (sought)
        say_size(s, data, size, form);
    int code = import_block(&in, data, size, form, clears);
    mos_arena_free(in.arena);
    return code;
}

static int env_export(struct sim *s, int argc, const char *const *argv) {
    char form = 't';
    int i = 2;
    uint64_t at, size = 0;
    for (; i < argc && *argv[i] == '-'; i++)
        if (strchr("bct", argv[i][1]))
            form = argv[i][1];
        else if (argv[i][1] == 's' && i + 1 < argc)
            size = sim_number(argv[++i], NULL, 16);
    if (i >= argc || !sim_address(argv[i++], &at))
        return -1;
    if (sim_aborts(s, at))
        return 1;
    struct mos_buf out = {.arena = s->arena};
    struct mos_vec all = sorted(s);
    struct mos_map chosen = mos_map_make(s->arena);
    if (size && size <= 4 * MOST_BLOCK) /* the loader clears it before it knows what fits */
        sim_ram_write(s, at, mos_alloc(s->arena, (size_t)size), (size_t)size);
    for (size_t k = 0; k < all.count; k++) {
        const struct mos_map_item *v = mos_vec_at(&all, k);
        bool wanted = i >= argc;
        for (int n = i; n < argc; n++)
            wanted |= strcmp(argv[n], v->key) == 0;
        if (wanted)
            mos_variables_set(s->arena, &chosen, v->key, v->value, (struct mos_place){0});
        if (wanted && form != 'c')
            mos_buf_printf(&out, "%s=%s%c", v->key, (const char *)v->value, form == 't' ? '\n' : 0);
    }
    if (form == 'c') {
        uint64_t needed = mos_environment_size(&chosen, false);
        if (size && needed > size)
            return sim_trouble(s, "## Error: Cannot export environment: errno = 7");
        if (size <= 4 * MOST_BLOCK)
            mos_environment_write(&out, &chosen, size ? size : needed, false);
    } else {
        mos_buf_char(&out, 0);
        if (size && out.length > size) {
            sim_print(s, "Env export buffer too small: %llu, but need %zu\n",
                      (unsigned long long)size, out.length);
            return sim_trouble(s, "## Error: Cannot export environment: errno = 12");
        }
    }
    sim_ram_write(s, at, out.data, out.length);
    sim_ram_claim(s, at, out.length, "an exported environment");
    sim_set(s, "filesize", mos_printf(s->arena, "%zX", out.length));
    return 0;
}

static int env_exists(struct sim *s, int argc, const char *const *argv) {
    return argc != 3 ? -1 : sim_get(s, argv[2]) == NULL;
}

static int env_delete(struct sim *s, int argc, const char *const *argv) {
    int code = 0;
    for (int i = 2; i < argc; i++)
        if (*argv[i] != '-') {
            code |= !sim_get(s, argv[i]);
            sim_set(s, argv[i], NULL);
        }
    return code;
}

static int env_shifted(struct sim *s, int argc, const char *const *argv) {
    return strcmp(argv[1], "run") == 0    ? run_run(s, argc - 1, argv + 1)
           : strcmp(argv[1], "set") == 0  ? run_setenv(s, argc - 1, argv + 1)
           : strcmp(argv[1], "save") == 0 ? ub_environment_save(s)
                                          : run_printenv(s, argc - 1, argv + 1);
}

static int run_env(struct sim *s, int argc, const char *const *argv) {
    static const struct {
        const char *name;
        int (*run)(struct sim *s, int argc, const char *const *argv);
    } verbs[] = {{"default", env_default}, {"delete", env_delete}, {"exists", env_exists},
                 {"export", env_export},   {"import", env_import}, {"print", env_shifted},
                 {"run", env_shifted},     {"save", env_shifted},  {"set", env_shifted}};
    for (size_t i = 0; argc > 1 && i < sizeof verbs / sizeof *verbs; i++)
        if (strcmp(verbs[i].name, argv[1]) == 0)
            return verbs[i].run(s, argc, argv);
    return -1;
}

static int run_showvar(struct sim *s, int argc, const char *const *argv) {
    int code = 0;
    for (int i = 1; i < argc; i++) {
        const char *value = mos_map_get(&own(s)->locals, argv[i]);
        if (value)
            sim_print(s, "%s=%s\n", argv[i], value);
        else
            code = sim_trouble(s, "## Error: \"%s\" not defined", argv[i]);
    }
    for (size_t i = 0; argc < 2 && i < own(s)->locals.count; i++)
        sim_print(s, "%s=%s\n", own(s)->locals.items[i].key,
                  (const char *)own(s)->locals.items[i].value);
    return code;
}

const struct ub_command ub_commands_environment[] = {
    {"run", run_run, 0},
    {"setenv", run_setenv, 0},
    {"printenv", run_printenv, 0},
    {"saveenv", run_saveenv, 1},
    {"env", run_env, 0},
    {"showvar", run_showvar, 0},
    {NULL, NULL, 0},
};
