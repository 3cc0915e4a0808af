/* Options: one row each; help, parsing, and who may have them follow from it.  A new one is a row
 * here and a member of struct cli. */
#include "cli/options.h"

#include <popt.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

enum { SEEN = 1000 }; /* the first row's number for popt */

#define AT(member) offsetof(struct cli, member)

static const struct option_row rows[] = {
    {"workspace", 'w', "", "the workspace (default: walk up from here)", "DIR", AT(workspace)},
    {"out", 0, "build rehearse write listen serve", "another place than out/ in the workspace",
     "DIR", AT(out)},
    {"output", 'o', "take amend renew tree config send learn", "the file to write, or the folder",
     "FILE", AT(output)},
    {"picture", 0, "show tree", "draws the layout or tree into this file, .svg or .png", "FILE",
     AT(picture)},
    {"trail", 0, "show", "with the places that set each value", NULL, AT(trail)},
    {"files", 0, "inspect", "every file of every volume", NULL, AT(files)},
    {"planned", 0, "rehearse", "what a build would write, before it is built", NULL, AT(planned)},
    {"faults", 0, "rehearse", "the same boot with one thing broken at a time", NULL, AT(faults)},
    {"loader", 0, "rehearse", "the loader's binary, for the variables compiled into it", "FILE",
     AT(loader)},
    {"as", 0, "rehearse", "what the loader calls the image's medium (\"mmc 0\")", "MEDIUM",
     AT(medium)},
    {"flash", 0, "rehearse",
     "the serial flash beside an image, where its loader may keep variables", "FILE", AT(flash)},
    {"keys", 0, "rehearse", "a tree with the keys that parcels must be signed with", "FILE",
     AT(keys)},
    {"set", 0, "rehearse", "a variable of the loader that the system has set, as NAME=VALUE",
     "TEXT", AT(set)},
    {"strict", 0, "check build", "warnings count as errors", NULL, AT(strict)},
    {"accept", 0, "check", "turn what is found into waivers, for a board adopted as it is", NULL,
     AT(accept)},
    {"verify", 0, "build", "reads what was built and hashes it, where nothing has changed", NULL,
     AT(verify)},
    {"sha256", 0, "build", "the SHA-256 of every whole image, too, as other tools show it", NULL,
     AT(sha256)},
    {"expand-to", 0, "inspect take amend compare rehearse new write",
     "what a compressed image may grow to (64 GiB)", "SIZE", AT(expand_to)},
    {"include", 'I', "tree", "a folder with files that sources include; several times", "DIR",
     AT(includes), true},
    {"define", 'D', "tree", "a macro of the sources, NAME or NAME=TEXT; several times", "MACRO",
     AT(defines), true},
    {"keep-labels", 0, "tree", "labels go into the blob, so that overlays can name them", NULL,
     AT(keep_labels)},
    {"bindings", 0, "tree", "the folder of the kernel's schema files for nodes", "DIR",
     AT(bindings)},
    {"source", 0, "config", "the folder of a kernel's or loader's sources", "DIR", AT(source)},
    {"arch", 0, "config", "the architecture as the sources call it, as in arm64", "ARCH", AT(arch)},
    {"start", 0, "config", "the configuration to start from, a file or one of the sources'", "FILE",
     AT(start)},
    {"fragment", 0, "config", "settings on top of it, several times; ask: a board's fragment",
     "FILE", AT(fragments), true},
    {"only-show", 0, "config write", "shows what would change, and writes nothing", NULL,
     AT(only_show)},
    {"link-map", 0, "config", "cost: the map that the linker wrote of the kernel", "FILE",
     AT(link_map)},
    {"modules", 0, "config", "cost: the folder of that kernel's modules", "DIR", AT(modules)},
    {"of-loader", 0, "config", "of a board: its loader's configuration, not its kernel's", NULL,
     AT(of_loader)},
    {"cc", 0, "config", "the compiler that the sources ask (gcc)", "COMMAND", AT(compiler)},
    {"var", 0, "config", "a variable of the sources' macros, NAME=VALUE; several times", "TEXT",
     AT(vars), true},
    {"yes", 0, "write devices", "consent to a device by its token; several times", "TOKEN", AT(yes),
     true},
    {"also", 0, "write devices", "a device that is not pluggable, or too large, by its token",
     "TOKEN", AT(also), true},
    {"ledger", 0, "write", "the image's ledger, where it is not beside it", "FILE", AT(ledger)},
    {"for", 0, "write", "the board that the image must be of", "BOARD", AT(board)},
    {"changed", 0, "write", "writes only what differs from what is there", NULL, AT(changed)},
    {"region", 0, "write", "writes only this region; several times", "NAME", AT(regions), true},
    {"all-regions", 0, "write", "those of owner factory and device, too", NULL, AT(all_regions)},
    {"grow", 0, "write", "regions with `grows` take the rest of a larger device", NULL, AT(grow)},
    {"unmount", 0, "write", "releases what a desktop has mounted of it", NULL, AT(unmount)},
    {"unit", 0, "write listen send serve learn",
     "what it is written for; else which one on this table", "NAME", AT(unit)},
    {"way", 0, "write", "through the board itself, in this way of its `programming`", "NAME",
     AT(way)},
    {"serial", 0, "write", "a way: the serial line to the board, a device or tcp:HOST:PORT", "PORT",
     AT(serial)},
    {"address", 0, "write serve",
     "a way: this computer's address, where the board gets files; serve: what the board gets by "
     "DHCP",
     "ADDRESS", AT(address)},
    {"board-address", 0, "write", "a way: what the board gets meanwhile, as in 192.0.2.17/24",
     "ADDRESS", AT(board_address)},
    {"steps-done", 0, "write", "a way: what a person does is done already, but for fuses", NULL,
     AT(steps_done)},
    {"boards", 0, "write", "a way: so many boards, one after the other", "COUNT", AT(boards)},
    {"stored", 0, "listen learn", "takes what was stored of a serial line, in place of a port",
     "FILE", AT(stored)},
    {"log", 0, "listen", "what comes, with its times, into this new file", "FILE", AT(log)},
    {"junit", 0, "listen", "what came of it as JUnit XML, for a server that builds", "FILE",
     AT(junit)},
    {"judge", 0, "listen", "no terminal: ends with the verdict", NULL, AT(judge)},
    {"cycle", 0, "listen learn", "switches its power off and on, as the bench file says", NULL,
     AT(cycle)},
    {"acceptance", 0, "listen", "once it is up, goes through its acceptance; no terminal", NULL,
     AT(acceptance)},
    {"running", 0, "listen", "the board is up already: no start is waited for", NULL, AT(running)},
    {"by", 0, "send serve", "ymodem, xmodem or xmodem-1k; serve: tftp or http (both)", "WAY",
     AT(by)},
    {"at", 0, "serve", "this computer's network interface, or its address", "PLACE", AT(at)},
    {"tftp-port", 0, "serve", "another port than 69", "NUMBER", AT(tftp_port)},
    {"http-port", 0, "serve", "another port than 80", "NUMBER", AT(http_port)},
    {"user", 0, "learn", "who logs in (root)", "NAME", AT(user)},
    {"password-file", 0, "learn", "a file with the password of that user", "FILE",
     AT(password_file)},
    {"to", 0, "send", "where a loader puts it, as in 0x40200000", "ADDRESS", AT(to_address)},
    {"speed", 0, "send learn", "bits a second (115200)", "NUMBER", AT(speed)},
    {"bench", 0, "listen send serve learn",
     "the file about this table, for mosaicum/bench.yaml in your settings", "FILE", AT(bench)},
    {"first-start", 0, "listen", "the board starts for the first time: that takes longer", NULL,
     AT(first_start)},
    {"written", 0, "list", "which card or board carries what, by the record of writes", NULL,
     AT(written)},
    {"true-size", 0, "devices", "writes a pattern over all of DEVICE and reads it back", NULL,
     AT(true_size)},
    {"wait", 0, "devices", "shows what appears and vanishes, until it is interrupted", NULL,
     AT(wait)},
    {"json", 0, "", "one JSON document on standard output", NULL, AT(json)},
    {"color", 0, "", "auto, always or never", "WHEN", AT(when_color)},
    {"no-run", 0, "", "start no outside program", NULL, AT(no_run)},
    {"no-cache", 0, "", "keep nothing between runs", NULL, AT(no_cache)},
    {"quiet", 'q', "", "only what is wrong", NULL, AT(quiet)},
    {"verbose", 'v', "", "also what could not be proved", NULL, AT(verbose)},
    {"help", 'h', "", "this text", NULL, AT(help)},
    {"version", 0, "", "the version", NULL, AT(version)},
    /* what new is told */
    {"from", 0, "new", "draft the board from an image that boots", "IMAGE", AT(draft.from)},
    {"cpu", 0, "new rehearse", "arm64, arm, riscv64 or x86-64", "CPU", AT(draft.cpu)},
    {"ram-start", 0, "new rehearse", "first address of RAM", "ADDRESS", AT(draft.ram_start)},
    {"ram", 0, "new rehearse", "smallest fitted RAM, as in \"512 MiB\"", "SIZE",
     AT(draft.ram_size)},
    {"console", 0, "new", "serial console, as in ttyAMA0", "PORT", AT(draft.console)},
    {"baud", 0, "new", "its speed", "SPEED", AT(draft.baud)},
    {"medium", 0, "new", "sd, emmc, usb, nvme, nor or nand", "KIND", AT(draft.medium)},
    {"size", 0, "new", "the medium's size, as in \"4 GiB\"", "SIZE", AT(draft.size)},
    {"kernel", 0, "new", "kernel image", "FILE", AT(draft.kernel)},
    {"tree", 0, "new rehearse", "device tree, source or blob; of a loader: its own", "FILE",
     AT(draft.tree)},
    {"root", 0, "new", "archive of the root file system", "FILE", AT(draft.root)},
};
enum { ROWS = sizeof rows / sizeof *rows };

static struct {
    int flag;
    char *text;
    char **list; /* of one that may stand there several times */
    size_t count;
    bool given;
} values[ROWS]; /* filled by popt */

static char **held; /* copies of the words */
static size_t held_count;

/* Is a command one of a row's? */
static bool takes(const struct option_row *row, const char *command) {
    size_t n = strlen(command);
    for (const char *p = row->commands; (p = strstr(p, command)); p += n)
        if ((p == row->commands || p[-1] == ' ') && (!p[n] || p[n] == ' '))
            return true;
    return !*row->commands;
}

const struct option_row *option_at(size_t index) {
    return index < ROWS ? &rows[index] : NULL;
}

bool option_is_of(const struct option_row *row, const struct command *c) {
    return c ? *row->commands && takes(row, c->name) : !*row->commands;
}

size_t options_of(const struct command *c) {
    size_t count = 0;
    for (size_t i = 0; i < ROWS; i++)
        count += option_is_of(&rows[i], c);
    return count;
}

void options_print_row(const struct cli *cli, FILE *to, const char *left, const char *right) {
    enum { SECOND = 31 };
    size_t n = columns_of(left, strlen(left)) + 2;
    fprintf(to, "  %s%*s", left, n < SECOND ? (int)(SECOND - n) : 1, "");
    print_words(cli, n < SECOND ? SECOND : n + 1, SECOND, right, to);
}

void options_print(const struct cli *cli, FILE *to, const struct command *c) {
    for (const struct option_row *r = rows; r < rows + ROWS; r++) {
        char left[64];
        if (!option_is_of(r, c))
            continue;
        snprintf(left, sizeof left, "%s%c%s --%s %s", r->letter ? "-" : "",
                 r->letter ? r->letter : ' ', r->letter ? "," : "  ", r->name,
                 r->value ? r->value : "");
        options_print_row(cli, to, left, r->help);
    }
}

bool options_fit(const struct command *c, const char **wrong, char *others, size_t room) {
    *others = 0;
    for (size_t i = 0; i < ROWS; i++)
        if (*rows[i].commands && takes(&rows[i], c->name))
            snprintf(others + strlen(others), room - strlen(others), " --%s", rows[i].name);
    for (size_t i = 0; i < ROWS; i++)
        if (values[i].given && !takes(&rows[i], c->name)) {
            *wrong = rows[i].name;
            return false;
        }
    return true;
}

static void store(struct cli *cli) {
    for (size_t i = 0; i < ROWS; i++) {
        char *member = (char *)cli + rows[i].at;
        if (rows[i].many)
            *(const char ***)(void *)member = (const char **)values[i].list;
        else if (rows[i].value)
            *(const char **)(void *)member = values[i].text;
        else
            *(bool *)(void *)member = values[i].flag;
    }
}

/* "unknown option: --colour; did you mean --color?" */
static void tell_mistake(const char *what, const char *option, char *why, size_t room) {
    const char *names[ROWS], *name = option + strspn(option, "-");
    for (size_t i = 0; i < ROWS; i++)
        names[i] = rows[i].name;
    const char *near = mosaicum_near(name, names, ROWS);
    bool other = near && strcmp(near, name) != 0;
    snprintf(why, room, "%s: %s%s%s%s", what, option, other ? "; did you mean --" : "",
             other ? near : "", other ? "?" : "");
}

/* One more value of an option that may have several. */
static void keep(size_t row) {
    char **list = realloc(values[row].list, (values[row].count + 2) * sizeof *list);
    if (!list)
        return;
    list[values[row].count++] = values[row].text;
    list[values[row].count] = NULL;
    values[row].list = list;
    values[row].text = NULL;
}

const char **options_parse(struct cli *cli, int argc, const char **argv, char *why, size_t room) {
    struct poptOption table[ROWS + 1] = {0};
    int r;
    for (size_t i = 0; i < ROWS; i++)
        table[i] = (struct poptOption){.longName = rows[i].name,
                                       .shortName = rows[i].letter,
                                       .argInfo = rows[i].value ? POPT_ARG_STRING : POPT_ARG_NONE,
                                       .arg = rows[i].value ? (void *)&values[i].text
                                                            : (void *)&values[i].flag,
                                       .val = SEEN + (int)i};
    poptContext context = poptGetContext("mosaicum", argc, argv, table, 0);
    while ((r = poptGetNextOpt(context)) >= SEEN) {
        values[r - SEEN].given = true;
        if (rows[r - SEEN].many)
            keep((size_t)(r - SEEN));
    }
    store(cli);
    *why = 0;
    if (r < -1)
        tell_mistake(poptStrerror(r), poptBadOption(context, 0), why, room);
    static const char *none[] = {NULL};
    const char **found = poptGetArgs(context), **words = none;
    size_t count = 0;
    while (found && found[count])
        count++;
    if (count && (words = calloc(count + 1, sizeof *words)) && (held = calloc(count, sizeof *held)))
        for (; held_count < count; held_count++)
            words[held_count] = held[held_count] = strdup(found[held_count]);
    poptFreeContext(context);
    return words;
}

void options_free(const char **words) {
    for (size_t i = 0; i < ROWS; i++) {
        free(values[i].text);
        for (size_t k = 0; k < values[i].count; k++)
            free(values[i].list[k]);
        free(values[i].list);
    }
    for (size_t i = 0; i < held_count; i++)
        free(held[i]);
    free(held);
    if (held_count)
        free((void *)words);
}
