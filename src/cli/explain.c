#include "cli/cli.h"

#include <jansson.h>
#include <string.h>

static int list_rules(struct cli *cli) {
    const struct mosaicum_rule *rules;
    size_t count = mosaicum_rules(&rules);
    if (cli->json) {
        json_t *root = json_pack("{s:i,s:s}", "mosaicum", 1, "command", "explain");
        json_t *list = json_array();
        for (size_t i = 0; i < count; i++)
            json_array_append_new(list, json_pack("{s:s,s:s,s:s}", "rule", rules[i].id, "severity",
                                                  rules[i].severity, "title", rules[i].title));
        json_object_set_new(root, "rules", list);
        out_json(true);
        json_dumpf(root, to_out, JSON_INDENT(1));
        out_json(false);
        fputc('\n', to_out);
        json_decref(root);
        return MOSAICUM_DONE;
    }
    for (size_t i = 0; i < count; i++)
        fprintf(to_out, "%s%-22s%s  %-8s %s\n", style(cli, STYLE_STRONG), rules[i].id,
                style(cli, STYLE_END), rules[i].severity, rules[i].title);
    return MOSAICUM_DONE;
}

/* Every key of definitions. */
static int explain_keys(struct cli *cli) {
    const char *text;
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status = (int)mosaicum_reference(m, &text);
    if (!status)
        print_markdown(cli, text + 1, to_out);
    mosaicum_free(m);
    return status;
}

static int run(struct cli *cli) {
    const char *near, *page;
    if (!cli->argument_count)
        return list_rules(cli);
    if (strcmp(cli->arguments[0], "keys") == 0)
        return explain_keys(cli);
    page = mosaicum_explain(cli->arguments[0], &near);
    if (!page) {
        fprintf(to_err, "%smosaicum:%s there is no rule %s%s%s%s\n", style(cli, STYLE_ERROR),
                style(cli, STYLE_END), cli->arguments[0], near ? "; did you mean " : "",
                near ? near : "", near ? "?" : "");
        return MOSAICUM_USAGE;
    }
    if (cli->json) {
        json_t *root = json_pack("{s:i,s:s,s:s,s:s}", "mosaicum", 1, "command", "explain", "rule",
                                 cli->arguments[0], "page", page);
        out_json(true);
        json_dumpf(root, to_out, JSON_INDENT(1));
        out_json(false);
        fputc('\n', to_out);
        json_decref(root);
    } else {
        print_markdown(cli, page, to_out);
    }
    return MOSAICUM_DONE;
}

const struct command command_explain = {
    .name = "explain",
    .usage = "[RULE|keys]",
    .about = "what a rule means, with examples; or every key of a definition",
    .most = 1,
    .run = run,
};
