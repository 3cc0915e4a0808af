/* Help: of all, of one command, of any word that means something here. */
#include "cli/options.h"

#include <string.h>

static const struct command *const commands[] = {
    &command_new,     &command_list,     &command_check,   &command_build,   &command_show,
    &command_compare, &command_pin,      &command_inspect, &command_take,    &command_amend,
    &command_renew,   &command_rehearse, &command_tree,    &command_config,  &command_devices,
    &command_write,   &command_listen,   &command_send,    &command_serve,   &command_learn,
    &command_explain, &command_demo,     &command_help,    &command_complete};
enum { COMMANDS = sizeof commands / sizeof *commands, NARROW = 72, WIDE = 100 };

const struct command *command_at(size_t index) {
    return index < COMMANDS ? commands[index] : NULL;
}

const struct command *command_named(const char *name) {
    for (size_t i = 0; i < COMMANDS; i++)
        if (strcmp(commands[i]->name, name) == 0)
            return commands[i];
    return NULL;
}

const char *command_near(const char *name) {
    const char *names[COMMANDS];
    for (size_t i = 0; i < COMMANDS; i++)
        names[i] = commands[i]->about ? commands[i]->name : "";
    return mosaicum_near(name, names, COMMANDS);
}

/* A paragraph, two blanks in, as wide as reads well. */
static void print_paragraph(const struct cli *cli, const char *text, FILE *to) {
    size_t room = cli->width > WIDE ? WIDE : cli->width > 40 ? (size_t)cli->width - 2 : NARROW;
    size_t column = 0;
    for (const char *p = text; *p;) {
        size_t n = strcspn(p, " "), wide = columns_of(p, n);
        if (column && column + 1 + wide > room) {
            fputc('\n', to);
            column = 0;
        }
        fprintf(to, "%s%.*s", column ? " " : "  ", (int)n, p);
        column += wide + (column ? 1 : 2);
        p += n;
        p += strspn(p, " ");
    }
    fputc('\n', to);
}

static void print_statuses(FILE *to) {
    fprintf(to, "Exit status: 0 done, 1 findings, 2 wrong usage or unreadable file,\n"
                "3 the system failed, 4 refused for safety.\n");
}

void help_all(const struct cli *cli, FILE *to) {
    fprintf(to, "%smosaicum%s checks what is on a board against itself, and builds its images.\n\n",
            style(cli, STYLE_STRONG), style(cli, STYLE_END));
    fprintf(to, "Use: mosaicum COMMAND [ARGUMENTS] [OPTIONS]\n\nCommands:\n");
    for (size_t i = 0; i < COMMANDS; i++) {
        char left[64];
        snprintf(left, sizeof left, "%s %s", commands[i]->name, commands[i]->usage);
        if (commands[i]->about)
            options_print_row(cli, to, left, commands[i]->about);
    }
    fprintf(to, "\nOptions of every command (mosaicum COMMAND --help tells its own):\n");
    options_print(cli, to, NULL);
    fputc('\n', to);
    print_statuses(to);
}

void help_command(const struct cli *cli, const struct command *c, FILE *to) {
    fprintf(to, "%smosaicum %s%s%s%s\n  %s\n\n", style(cli, STYLE_STRONG), c->name,
            style(cli, STYLE_END), *c->usage ? " " : "", c->usage, c->about);
    print_paragraph(cli, c->details, to);
    if (options_of(c)) {
        fprintf(to, "\nOptions (mosaicum --help has those of every command):\n");
        options_print(cli, to, c);
    }
    fprintf(to, "\nExamples:\n");
    for (const char *p = c->examples; *p; p += strcspn(p, "\n") + 1)
        fprintf(to, "  %.*s\n", (int)strcspn(p, "\n"), p);
}

static int run(struct cli *cli) {
    const char *word = cli->argument_count ? cli->arguments[0] : NULL;
    const struct command *c = word ? command_named(word) : NULL;
    if (!word)
        help_all(cli, to_out);
    else if (c && c->about)
        help_command(cli, c, to_out);
    else if (strcmp(word, "status") == 0)
        print_statuses(to_out);
    else
        return command_explain.run(cli);
    return MOSAICUM_DONE;
}

const struct command command_help = {
    .name = "help",
    .usage = "[WORD]",
    .about = "what a command, rule, family of rules, key or `status` means",
    .details =
        "Without a word it is mosaicum --help. Of a command it is mosaicum COMMAND --help; any "
        "other word is explained.",
    .examples = "mosaicum help build\n"
                "mosaicum help volume\n"
                "mosaicum help status\n",
    .most = 1,
    .run = run,
};
