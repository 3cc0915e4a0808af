/* Names and usual values: the kernel's top Makefile and Documentation/kbuild/kbuild.rst. */
#include "kconfig/variables.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

/* "VERSION = 6" of the tree's Makefile; "" if it is not there. */
static const char *field(struct mos_ctx *ctx, const char *makefile, const char *name) {
    size_t n = strlen(name);
    for (const char *line = makefile; line; line = strchr(line, '\n')) {
        line += *line == '\n';
        if (strncmp(line, name, n) != 0)
            continue;
        const char *p = line + n + strspn(line + n, " \t");
        if (*p != '=')
            continue;
        p += 1 + strspn(p + 1, " \t");
        size_t length = strcspn(p, "\r\n#");
        while (length && (p[length - 1] == ' ' || p[length - 1] == '\t'))
            length--;
        return mos_strndup(ctx->arena, p, length);
    }
    return "";
}

const char *mos_kc_arch_folder(const char *arch) {
    static const char *const rows[][2] = {{"i386", "x86"},
                                          {"x86_64", "x86"},
                                          {"sparc32", "sparc"},
                                          {"sparc64", "sparc"},
                                          {"parisc64", "parisc"}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (strcmp(rows[i][0], arch) == 0)
            return rows[i][1];
    return arch;
}

/* "ccache aarch64-linux-gnu-gcc-12" → "aarch64-linux-gnu-"; "": the tools have no prefix. */
static const char *prefix_of(struct mos_arena *arena, const char *compiler) {
    const char *name = strrchr(compiler, ' '), *end = NULL;
    name = name ? name + 1 : compiler;
    for (const char *p = name; (p = strstr(p, "-gcc")); p++)
        end = p;
    if (!end)
        return "";
    const char *version = end + strlen("-gcc");
    if (*version == '-')
        version += 1 + strspn(version + 1, "0123456789.");
    return *version ? "" : mos_strndup(arena, name, (size_t)(end + 1 - name));
}

static void set_tools(struct mos_ctx *ctx, const char *compiler, struct mos_map *vars) {
    static const char *const tools[][2] = {
        {"LD", "ld"},           {"AR", "ar"},           {"NM", "nm"},      {"OBJCOPY", "objcopy"},
        {"OBJDUMP", "objdump"}, {"READELF", "readelf"}, {"STRIP", "strip"}};
    static const char *const plain[][2] = {{"HOSTCC", "gcc"},      {"HOSTCXX", "g++"},
                                           {"RUSTC", "rustc"},     {"RUSTC_OR_CLIPPY", "rustc"},
                                           {"HOSTRUSTC", "rustc"}, {"BINDGEN", "bindgen"},
                                           {"PAHOLE", "pahole"},   {"AWK", "awk"},
                                           {"PERL", "perl"},       {"PYTHON3", "python3"},
                                           {"LEX", "flex"},        {"YACC", "bison"},
                                           {"CONFIG_SHELL", "sh"}, {"KCONFIG_CONFIG", ".config"}};
    const char *prefix = prefix_of(ctx->arena, compiler);
    mos_map_set_const(vars, "CC", compiler);
    mos_map_set_const(vars, "CPP", mos_printf(ctx->arena, "%s -E", compiler));
    mos_map_set_const(vars, "CROSS_COMPILE", prefix);
    for (size_t i = 0; i < sizeof tools / sizeof *tools; i++)
        mos_map_set_const(vars, tools[i][0], mos_printf(ctx->arena, "%s%s", prefix, tools[i][1]));
    for (size_t i = 0; i < sizeof plain / sizeof *plain; i++)
        mos_map_set_const(vars, plain[i][0], plain[i][1]);
}

static void set_version(struct mos_ctx *ctx, const char *makefile, struct mos_map *vars) {
    const char *version = field(ctx, makefile, "VERSION"),
               *patch = field(ctx, makefile, "PATCHLEVEL"), *sub = field(ctx, makefile, "SUBLEVEL"),
               *extra = field(ctx, makefile, "EXTRAVERSION");
    const char *whole = mos_printf(ctx->arena, "%s%s%s%s%s%s", version, *patch ? "." : "", patch,
                                   *sub ? "." : "", sub, extra);
    mos_map_set_const(vars, "VERSION", version);
    mos_map_set_const(vars, "PATCHLEVEL", patch);
    mos_map_set_const(vars, "SUBLEVEL", sub);
    mos_map_set_const(vars, "KERNELVERSION", whole);
    if (strstr(makefile, "UBOOTVERSION"))
        mos_map_set_const(vars, "UBOOTVERSION", whole);
}

bool mos_kc_variables(struct mos_ctx *ctx, const struct mos_kc_world *world, struct mos_map *vars) {
    char *real = NULL, *makefile = NULL;
    size_t length;
    int e = ctx->host->real_path(ctx->host, world->source, &real);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "There is no tree at %s", world->source);
    const char *folder = mos_strndup(ctx->arena, real, strlen(real));
    free(real);
    const char *path = mos_path_join(ctx->arena, world->source, "Makefile");
    if (mos_exists(ctx, path)) {
        if (!mos_read_file(ctx, path, 4 << 20, &makefile, &length))
            return false;
        set_version(ctx, makefile, vars);
    }
    const char *programs = ctx->host->environment(ctx->host, "PATH");
    if (programs) /* compilers of boards are kept in many places */
        mos_map_set_const(vars, "PATH", programs);
    mos_map_set_const(vars, "srctree", folder);
    mos_map_set_const(vars, "abs_srctree", folder);
    mos_map_set_const(vars, "objtree", ".");
    if (world->arch) {
        mos_map_set_const(vars, "ARCH", world->arch);
        mos_map_set_const(vars, "SRCARCH", mos_kc_arch_folder(world->arch));
    }
    set_tools(ctx, world->compiler ? world->compiler : "gcc", vars);
    for (size_t i = 0; world->vars && world->vars[i]; i++) {
        const char *equals = strchr(world->vars[i], '=');
        if (!equals || equals == world->vars[i])
            return mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "--var is NAME=VALUE, not %s",
                            world->vars[i]);
        mos_map_set_const(
            vars, mos_strndup(ctx->arena, world->vars[i], (size_t)(equals - world->vars[i])),
            equals + 1);
    }
    return true;
}

bool mos_kc_version_text(struct mos_kc_probes *probes, struct mos_map *vars) {
    if (mos_map_get(vars, "CC_VERSION_TEXT"))
        return true;
    const char *said = mos_kc_probe(
        probes, mos_printf(probes->ctx->arena, "LC_ALL=C %s --version 2>/dev/null | head -n 1",
                           (const char *)mos_map_get(vars, "CC")));
    struct mos_buf text = {.arena = probes->ctx->arena};
    for (const char *p = said; p && *p; p++)
        if (*p != '#') /* the makefiles cannot have it */
            mos_buf_char(&text, *p);
    mos_map_set_const(vars, "CC_VERSION_TEXT", mos_buf_string(&text));
    return said != NULL;
}

const char *const *mos_kc_environment(struct mos_arena *arena, const struct mos_map *vars) {
    const char **list = mos_alloc_array(arena, vars->count + 1, sizeof *list);
    for (size_t i = 0; i < vars->count; i++)
        list[i] =
            mos_printf(arena, "%s=%s", vars->items[i].key, (const char *)vars->items[i].value);
    return list;
}

bool mos_kc_manner(struct mos_ctx *ctx, const char *source, const struct mos_map *vars,
                   struct mos_kc_manner *out) {
    const char *path = mos_path_join(ctx->arena, source, "scripts/kconfig/confdata.c");
    char *writer = NULL;
    size_t length;
    *out = (struct mos_kc_manner){.ends = true, .capped = true};
    if (mos_exists(ctx, path)) {
        if (!mos_read_file(ctx, path, 4 << 20, &writer, &length))
            return false;
        if (!strstr(writer, "# end of "))
            *out = (struct mos_kc_manner){.raw = true};
        if (strstr(writer, "Automatically generated make config: don't edit"))
            *out = (struct mos_kc_manner){.whole = true, .zeros = true, .raw = true, .once = true};
    }
    const char *version = mos_map_get(vars, "VERSION"), *patch = mos_map_get(vars, "PATCHLEVEL");
    if (!version || !patch || !out->ends)
        return true;
    long major = strtol(version, NULL, 10), minor = strtol(patch, NULL, 10);
    if (major == 5 && minor < 7)
        out->capped = false;
    /* measured with 6.1 and 6.12; choices changed in 6.11 */
    out->ranked = out->zeros = out->clamps = major > 6 || (major == 6 && minor >= 11);
    return true;
}
