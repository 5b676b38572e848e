/* XML from outside, by libxml2: no document types, no entities of its own, no network. */
#include <libxml/parser.h>
#include <stdlib.h>
#include <string.h>

#include "parts.h"

xmlDoc *find_xml(const char *data, size_t bytes)
{
    const int how = XML_PARSE_NONET | XML_PARSE_NOERROR | XML_PARSE_NOWARNING;
    xmlDoc *doc = bytes > 0 && bytes < INT32_MAX
                      ? xmlReadMemory(data, (int)bytes, NULL, NULL, how)
                      : NULL;
    if (doc && (xmlGetIntSubset(doc) || !xmlDocGetRootElement(doc))) {
        xmlFreeDoc(doc);
        doc = NULL;
    }
    return doc;
}

static bool is_named(const xmlNode *node, const char *name)
{
    return node->type == XML_ELEMENT_NODE && strcmp((const char *)node->name, name) == 0;
}

/* The next node in the order of the document, within top. */
static const xmlNode *next_in(const xmlNode *node, const xmlNode *top)
{
    if (node->type == XML_ELEMENT_NODE && node->children)
        return node->children;
    while (node != top && !node->next)
        node = node->parent;
    return node == top ? NULL : node->next;
}

const xmlNode *find_below(const xmlNode *node, const char *name)
{
    const xmlNode *n = node;
    while (n && (n = next_in(n, node)))
        if (is_named(n, name))
            return n;
    return NULL;
}

const xmlNode *find_beside(const xmlNode *node)
{
    for (const xmlNode *n = node->next; n; n = n->next)
        if (is_named(n, (const char *)node->name))
            return n;
    return NULL;
}

void find_text_below(const xmlNode *node, const char *name, char *out, size_t room)
{
    const xmlNode *found = node ? find_below(node, name) : NULL;
    xmlChar *text = found ? xmlNodeGetContent(found) : NULL;
    find_text(text ? (const char *)text : "", out, room);
    xmlFree(text);
}

unsigned find_number_below(const xmlNode *node, const char *name)
{
    enum { MOST = 100000 };
    char text[16];
    find_text_below(node, name, text, sizeof text);
    const long n = strtol(text, NULL, 10);
    return n > 0 && n <= MOST ? (unsigned)n : 0;
}
