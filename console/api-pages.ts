// The API's description (OpenAPI 3.1) as a page of the guide: what each operation is for, takes and answers, in words.

interface Schema {
  $ref?: string;
  type?: string;
  title?: string;
  description?: string;
  enum?: unknown[];
  const?: unknown;
  default?: unknown;
  format?: string;
  items?: Schema;
  anyOf?: Schema[];
  oneOf?: Schema[];
  allOf?: Schema[];
  properties?: Record<string, Schema>;
  required?: string[];
  additionalProperties?: Schema | boolean;
  minimum?: number;
  maximum?: number;
  maxLength?: number;
  maxItems?: number;
}

interface Content {
  content?: Record<string, { schema?: Schema }>;
}

interface Operation {
  tags?: string[];
  description?: string;
  summary?: string;
  parameters?: { name: string; in: string; required?: boolean; description?: string; schema?: Schema }[];
  requestBody?: Content;
  responses?: Record<string, Content & { $ref?: string; description?: string }>;
  security?: unknown[];
}

export interface Description {
  info: { title: string; version: string };
  paths: Record<string, Record<string, Operation>>;
  components: { schemas: Record<string, Schema> };
}

const METHODS = ["get", "post", "put", "patch", "delete"];
// What nearly every operation has is said once, above.
const SAID_ONCE = new Set(["directory", "Idempotency-Key", "If-Match", "If-None-Match", "cursor", "limit"]);
const INTRODUCTION = `# The API

Everything the console and the command line do is done by this API: JSON over HTTP, below \`/api/v1/directories/{directory}\`.
The machine-readable description is at [/openapi.json](/openapi.json) (OpenAPI 3.1).

## How to call it

- **Who calls**: an access token of the directory for its own API, as \`Authorization: Bearer\` (\`jamb token get\`).
- **Refusals** are problem documents (RFC 9457): \`detail\` says what is wrong, \`next_step\` what to do, \`fields\` where.
- **Lists** come in pages: \`limit\` items (at most 100), \`next\` is the \`cursor\` of the page after it, also as a Link header.
- **Idempotency-Key** names a change: sent again with the same key, it is done once.
- **ETag** and **If-Match**: what can be edited has a version; a change of another version is refused with 412.
- **429** and **503** say in \`Retry-After\` when to come again.
`;

const one = (text: string) => text.replace(/\s+/g, " ").replace(/\|/g, "\\|").replace(/</g, "‹").replace(/>/g, "›").trim();

/** Return the page as Markdown. */
export function apiPage(api: Description): string {
  const named = (schema: Schema): [string, Schema] => {
    const name = schema.$ref?.split("/").pop() ?? "";
    return [name, name ? (api.components.schemas[name] ?? {}) : schema];
  };

  function typeOf(schema: Schema | undefined): string {
    if (!schema) return "anything";
    const [name, real] = named(schema);
    if (real.enum) return real.enum.map(String).join(", ");
    if (real.const !== undefined) return String(real.const);
    const several = real.anyOf ?? real.oneOf ?? real.allOf;
    if (several) return [...new Set(several.map(typeOf))].map((type) => (type === "null" ? "nothing" : type)).join(" or ");
    if (real.type === "array") return `list of ${typeOf(real.items)}`;
    if (real.properties) return name || "object";
    if (real.type === "object") return "object";
    return real.format ? `${real.type} (${real.format})` : (real.type ?? "anything");
  }

  function bounds({ minimum, maximum, maxLength, maxItems, default: otherwise }: Schema): string {
    return [
      minimum !== undefined && maximum !== undefined ? `${minimum} to ${maximum}` : "",
      maxLength !== undefined ? `at most ${maxLength} characters` : "",
      maxItems !== undefined ? `at most ${maxItems}` : "",
      otherwise !== undefined && otherwise !== null && otherwise !== "" && typeof otherwise !== "object" ? `otherwise ${otherwise}` : "",
    ]
      .filter(Boolean)
      .join("; ");
  }

  function fields(schema: Schema, sent: boolean): string {
    const [, real] = named(schema);
    const rows = Object.entries(real.properties ?? {}).map(([name, field]) => {
      const must = sent && real.required?.includes(name) ? ", **needed**" : "";
      const words = [one(field.description ?? ""), sent ? bounds(field) : ""].filter(Boolean).join("; ");
      return `| \`${name}\` | ${one(typeOf(field))}${must} | ${words} |`;
    });
    return rows.length ? `\n| Field | Type | What it is |\n|---|---|---|\n${rows.join("\n")}\n` : "";
  }

  function content(found: Content | undefined): [string, Schema] | undefined {
    const [type, body] = Object.entries(found?.content ?? {})[0] ?? [];
    return type && body?.schema ? [type, body.schema] : undefined;
  }

  function operation(path: string, method: string, it: Operation): string {
    const parts = [
      `\n### ${method.toUpperCase()} ${path.replace("/api/v1/directories/{directory}", "…") || "…"}\n`,
      one(it.description ?? it.summary ?? ""),
    ];
    const asked = (it.parameters ?? []).filter(({ name }) => !SAID_ONCE.has(name));
    if (asked.length) {
      const rows = asked.map(({ name, in: where, required, description, schema }) => {
        const words = [one(description ?? schema?.description ?? ""), bounds(schema ?? {})].filter(Boolean).join("; ");
        return `| \`${name}\` (${where}) | ${one(typeOf(schema))}${required ? ", **needed**" : ""} | ${words} |`;
      });
      parts.push(`\n| Parameter | Type | What it is |\n|---|---|---|\n${rows.join("\n")}\n`);
    }
    const body = content(it.requestBody);
    if (body)
      parts.push(
        `\nBody: ${body[0] === "application/json" ? "" : `as \`${body[0]}\`, `}${one(typeOf(body[1]))}:\n${fields(body[1], true)}`,
      );
    const [status, answer] = Object.entries(it.responses ?? {}).find(([code]) => code.startsWith("2")) ?? [];
    const shape = content(answer);
    if (shape) parts.push(`\nAnswer ${status}: ${one(typeOf(shape[1]))}\n${fields(shape[1], false)}`);
    else if (status) parts.push(`\nAnswer ${status}, without a body.\n`);
    return parts.join("\n");
  }

  const byTag = new Map<string, string[]>();
  for (const [path, methods] of Object.entries(api.paths))
    for (const method of METHODS) {
      const it = methods[method];
      if (!it) continue;
      const tag = it.tags?.[0] ?? "other";
      byTag.set(tag, [...(byTag.get(tag) ?? []), operation(path, method, it)]);
    }
  const parts = [...byTag]
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([tag, all]) => `\n## ${tag[0]!.toUpperCase()}${tag.slice(1)}\n${all.join("\n")}`);
  return `${INTRODUCTION}\n\`…\` stands for \`/api/v1/directories/{directory}\` below.\n${parts.join("\n")}`;
}
