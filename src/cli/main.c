#include "cli/cli.h"
#include "platform/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <langinfo.h>
#include <locale.h>
#include <popt.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

static const struct command *const commands[] = {
    &command_new,      &command_list,    &command_check,   &command_build, &command_show,
    &command_compare,  &command_pin,     &command_inspect, &command_take,  &command_amend,
    &command_rehearse, &command_explain, &command_demo};

const struct command *command_at(size_t index) {
    return index < sizeof commands / sizeof *commands ? commands[index] : NULL;
}

struct options {
    char *workspace, *out, *output, *picture, *color;
    char *loader, *medium_as, *keys, *flash, *expand_to;
    char *cpu, *ram_start, *ram, *console, *baud, *medium, *size, *kernel, *tree, *root, *from;
    int json, quiet, verbose, no_run, strict, no_cache, accept, trail, files, planned, faults, help,
        version;
};
static struct options options; /* filled by popt, read once */

/* Each row has its own number, so that we hear of every option that was given. */
enum { SEEN = 1000, MOST_OPTIONS = 64 };
static bool seen[MOST_OPTIONS];

static const struct poptOption table[] = {
    {"workspace", 'w', POPT_ARG_STRING, &options.workspace, SEEN + 0,
     "the workspace (default: walk up from here)", "DIR"},
    {"out", 0, POPT_ARG_STRING, &options.out, SEEN + 1,
     "build, rehearse: another place than out/ in the workspace", "DIR"},
    {"output", 'o', POPT_ARG_STRING, &options.output, SEEN + 2, "the file to write", "FILE"},
    {"picture", 0, POPT_ARG_STRING, &options.picture, SEEN + 3,
     "show layout: draws it into this file, .svg or .png", "FILE"},
    {"files", 0, POPT_ARG_NONE, &options.files, SEEN + 4, "inspect: every file of every volume",
     NULL},
    {"planned", 0, POPT_ARG_NONE, &options.planned, SEEN + 32,
     "rehearse: what a build would write, before it is built", NULL},
    {"faults", 0, POPT_ARG_NONE, &options.faults, SEEN + 5,
     "rehearse: the same boot with one thing broken at a time", NULL},
    {"loader", 0, POPT_ARG_STRING, &options.loader, SEEN + 6,
     "rehearse: the loader's binary, for the variables compiled into it", "FILE"},
    {"as", 0, POPT_ARG_STRING, &options.medium_as, SEEN + 7,
     "rehearse: what the loader calls the image's medium (\"mmc 0\")", "MEDIUM"},
    {"flash", 0, POPT_ARG_STRING, &options.flash, SEEN + 33,
     "rehearse: the serial flash beside an image, where its loader may keep variables", "FILE"},
    {"keys", 0, POPT_ARG_STRING, &options.keys, SEEN + 8,
     "rehearse: a tree with the keys that parcels must be signed with", "FILE"},
    {"expand-to", 0, POPT_ARG_STRING, &options.expand_to, SEEN + 9,
     "what a compressed image may grow to (64 GiB)", "SIZE"},
    {"json", 0, POPT_ARG_NONE, &options.json, SEEN + 10, "one JSON document on standard output",
     NULL},
    {"color", 0, POPT_ARG_STRING, &options.color, SEEN + 11, "auto, always or never", "WHEN"},
    {"trail", 0, POPT_ARG_NONE, &options.trail, SEEN + 12,
     "show: with the places that set each value", NULL},
    {"accept", 0, POPT_ARG_NONE, &options.accept, SEEN + 13,
     "check: turn what is found into waivers, for a board adopted as it is", NULL},
    {"from", 0, POPT_ARG_STRING, &options.from, SEEN + 14,
     "new: draft the board from an image that boots", "IMAGE"},
    {"cpu", 0, POPT_ARG_STRING, &options.cpu, SEEN + 15,
     "new, rehearse IMAGE: arm64, arm or riscv64", "CPU"},
    {"ram-start", 0, POPT_ARG_STRING, &options.ram_start, SEEN + 16,
     "new, rehearse IMAGE: first address of RAM", "ADDRESS"},
    {"ram", 0, POPT_ARG_STRING, &options.ram, SEEN + 17,
     "new, rehearse IMAGE: smallest fitted RAM, as in \"512 MiB\"", "SIZE"},
    {"console", 0, POPT_ARG_STRING, &options.console, SEEN + 18,
     "new: serial console, as in ttyAMA0", "PORT"},
    {"baud", 0, POPT_ARG_STRING, &options.baud, SEEN + 19, "new: its speed", "SPEED"},
    {"medium", 0, POPT_ARG_STRING, &options.medium, SEEN + 20, "new: sd, emmc, usb or nvme",
     "KIND"},
    {"size", 0, POPT_ARG_STRING, &options.size, SEEN + 21,
     "new: the medium's size, as in \"4 GiB\"", "SIZE"},
    {"kernel", 0, POPT_ARG_STRING, &options.kernel, SEEN + 22, "new: kernel image", "FILE"},
    {"tree", 0, POPT_ARG_STRING, &options.tree, SEEN + 23,
     "new: device tree, source or blob; rehearse: the loader's own tree", "FILE"},
    {"root", 0, POPT_ARG_STRING, &options.root, SEEN + 24, "new: archive of the root file system",
     "FILE"},
    {"strict", 0, POPT_ARG_NONE, &options.strict, SEEN + 25, "warnings count as errors", NULL},
    {"no-run", 0, POPT_ARG_NONE, &options.no_run, SEEN + 26, "start no outside program", NULL},
    {"no-cache", 0, POPT_ARG_NONE, &options.no_cache, SEEN + 27, "keep nothing between runs", NULL},
    {"quiet", 'q', POPT_ARG_NONE, &options.quiet, SEEN + 28, "only what is wrong", NULL},
    {"verbose", 'v', POPT_ARG_NONE, &options.verbose, SEEN + 29, "also what could not be proved",
     NULL},
    {"help", 'h', POPT_ARG_NONE, &options.help, SEEN + 30, "this text", NULL},
    {"version", 0, POPT_ARG_NONE, &options.version, SEEN + 31, "the version", NULL},
    POPT_TABLEEND};

/* One row of the help; the first column is counted in characters, not bytes. */
static void print_row(FILE *to, const char *left, const char *right) {
    size_t n = 0;
    for (const char *p = left; *p; p++)
        n += ((unsigned char)*p & 0xc0) != 0x80;
    fprintf(to, "  %s%*s%s\n", left, n < 29 ? (int)(29 - n) : 1, "", right);
}

/* The options of `new`, or all others. */
static void print_options(FILE *to, bool of_new) {
    for (const struct poptOption *o = table; o->longName; o++) {
        bool is_new = strncmp(o->descrip, "new", 3) == 0;
        char left[64];
        snprintf(left, sizeof left, "%s%c%s --%s %s", o->shortName ? "-" : "",
                 o->shortName ? o->shortName : ' ', o->shortName ? "," : "  ", o->longName,
                 o->argDescrip ? o->argDescrip : "");
        if (is_new == of_new)
            print_row(to, left, o->descrip + (is_new && o->descrip[3] == ':' ? 5 : 0));
    }
}

static void print_help(const struct cli *cli, FILE *to) {
    fprintf(to, "%smosaicum%s checks what is on a board against itself, and builds its images.\n\n",
            style(cli, STYLE_STRONG), style(cli, STYLE_END));
    fprintf(to, "Use: mosaicum [OPTIONS] COMMAND [ARGUMENTS]\n\nCommands:\n");
    for (size_t i = 0; command_at(i); i++) {
        char left[64];
        snprintf(left, sizeof left, "%s %s", command_at(i)->name, command_at(i)->usage);
        print_row(to, left, command_at(i)->about);
    }
    fprintf(to, "\nOptions:\n");
    print_options(to, false);
    fprintf(to, "\nWhat new is told (without any of these it asks, on a terminal), and rehearse of "
                "an image:\n");
    print_options(to, true);
    fprintf(to, "\nExit status: 0 done, 1 findings, 2 wrong usage or unreadable file,\n"
                "3 the system failed, 4 refused for safety.\n");
}

static int wrong_usage(const struct cli *cli, const char *text, const char *more) {
    fprintf(to_err, "%smosaicum:%s %s%s\n", style(cli, STYLE_ERROR), style(cli, STYLE_END), text,
            more);
    fprintf(to_err, "Try: mosaicum --help\n");
    return MOSAICUM_USAGE;
}

static bool choose_color(const char *when, bool *color) {
    const char *term = getenv("TERM");
    if (!when || strcmp(when, "auto") == 0)
        *color = isatty(1) && !getenv("NO_COLOR") && term && strcmp(term, "dumb") != 0;
    else if (strcmp(when, "always") == 0 || strcmp(when, "never") == 0)
        *color = *when == 'a';
    else
        return false;
    return true;
}

static void look_at_terminal(struct cli *cli) {
    struct winsize size;
    setlocale(LC_CTYPE, "");
    cli->unicode = strcmp(nl_langinfo(CODESET), "UTF-8") == 0;
    if (isatty(1) && ioctl(1, TIOCGWINSZ, &size) == 0)
        cli->width = size.ws_col;
}

/* Is a word one of a list? */
static bool lists(const char *list, const char *word) {
    size_t n = strlen(word);
    for (const char *p = list; (p = strstr(p, word)); p += n)
        if ((p == list || p[-1] == ' ') && (!p[n] || p[n] == ' '))
            return true;
    return false;
}

/* An option that the command does nothing with is a mistake, not nothing. */
static bool options_fit(const struct cli *cli, const struct command *c) {
    static const char everywhere[] =
        "workspace json color no-run no-cache quiet verbose help version";
    for (const struct poptOption *o = table; o->longName; o++)
        if (seen[o->val - SEEN] && !lists(everywhere, o->longName) &&
            !lists(c->options, o->longName)) {
            fprintf(to_err, "%smosaicum:%s --%s is no option of %s", style(cli, STYLE_ERROR),
                    style(cli, STYLE_END), o->longName, c->name);
            fprintf(to_err, *c->options ? "; it takes:" : "\n");
            for (const struct poptOption *k = table; k->longName && *c->options; k++)
                if (lists(c->options, k->longName))
                    fprintf(to_err, " --%s", k->longName);
            fprintf(to_err, *c->options ? "\n" : "");
            return false;
        }
    return true;
}

static int run_command(struct cli *cli, const char *name) {
    const struct command *c = NULL;
    for (size_t i = 0; command_at(i) && !c; i++)
        if (strcmp(command_at(i)->name, name) == 0)
            c = command_at(i);
    if (!c)
        return wrong_usage(cli, "there is no command ", name);
    if (cli->argument_count < c->least || (c->most >= 0 && cli->argument_count > c->most)) {
        fprintf(to_err, "%smosaicum:%s %s is used like this: mosaicum %s%s%s\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END), name, name, *c->usage ? " " : "",
                c->usage);
        return MOSAICUM_USAGE;
    }
    return options_fit(cli, c) ? c->run(cli) : MOSAICUM_USAGE;
}

static int parse(poptContext context, struct cli *cli) {
    int r;
    while ((r = poptGetNextOpt(context)) >= SEEN)
        seen[r - SEEN] = true;
    bool good_color = choose_color(options.color, &cli->color);
    if (r < -1) {
        char more[512];
        snprintf(more, sizeof more, ": %s", poptBadOption(context, 0));
        return wrong_usage(cli, poptStrerror(r), more);
    }
    if (!good_color)
        return wrong_usage(cli, "--color is auto, always or never, not ", options.color);
    cli->workspace = options.workspace;
    cli->out = options.out;
    cli->output = options.output;
    cli->picture = options.picture;
    cli->files = options.files;
    cli->planned = options.planned;
    cli->faults = options.faults;
    cli->loader = options.loader;
    cli->medium = options.medium_as;
    cli->keys = options.keys;
    cli->flash = options.flash;
    cli->expand_to = options.expand_to;
    cli->json = options.json;
    cli->quiet = options.quiet;
    cli->verbose = options.verbose;
    cli->no_run = options.no_run;
    cli->strict = options.strict;
    cli->accept = options.accept;
    cli->trail = options.trail;
    cli->draft = (struct mosaicum_draft){.cpu = options.cpu,
                                         .ram_start = options.ram_start,
                                         .ram_size = options.ram,
                                         .console = options.console,
                                         .baud = options.baud,
                                         .medium = options.medium,
                                         .size = options.size,
                                         .kernel = options.kernel,
                                         .tree = options.tree,
                                         .root = options.root,
                                         .from = options.from};
    cli->no_cache = options.no_cache;
    if (options.version)
        return fprintf(to_out, "mosaicum %s\n", mosaicum_version()) < 0 ? MOSAICUM_SYSTEM
                                                                        : MOSAICUM_DONE;
    const char **words = poptGetArgs(context);
    if (options.help || !words || !words[0]) {
        print_help(cli, options.help ? to_out : to_err);
        return options.help ? MOSAICUM_DONE : MOSAICUM_USAGE;
    }
    cli->arguments = words + 1;
    while (cli->arguments[cli->argument_count])
        cli->argument_count++;
    return run_command(cli, words[0]);
}

/* A standard stream that came closed must not become the number of an image: what is printed would
 * go there.  Writing to it fails as it would have. */
static bool hold_standard_streams(void) {
    for (int fd = 0; fd < 3; fd++)
        if (fcntl(fd, F_GETFD) < 0 && open("/dev/null", O_RDONLY) != fd)
            return false;
    return true;
}

int main(int argc, const char **argv) {
    struct cli cli = {0};
    if (!hold_standard_streams())
        return MOSAICUM_SYSTEM;
    signal(SIGPIPE, SIG_IGN);
    look_at_terminal(&cli);
    if (!out_open(cli.unicode))
        return MOSAICUM_SYSTEM;
    poptContext context = poptGetContext("mosaicum", argc, argv, table, 0);
    int status = parse(context, &cli);
    poptFreeContext(context);
    char *const texts[] = {options.workspace, options.out,       options.color,     options.output,
                           options.picture,   options.cpu,       options.ram_start, options.ram,
                           options.console,   options.baud,      options.medium,    options.size,
                           options.kernel,    options.tree,      options.root,      options.from,
                           options.loader,    options.medium_as, options.keys,      options.flash,
                           options.expand_to};
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++)
        free(texts[i]);
    bool written = fflush(to_out) == 0 && !ferror(to_out);
    if (!written && errno != EPIPE)
        fprintf(to_err, "mosaicum: cannot write to standard output: %s\n", strerror(errno));
    written &= out_close();
    return status || written ? status : MOSAICUM_SYSTEM;
}
