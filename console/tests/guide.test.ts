// The guide's pages as they are built in: links, anchors, and the two ways of a recipe beside each other.
import { describe, expect, test } from "vitest";
import { apiPage } from "../api-pages";
import { addressOf, guidePage, idOf } from "../guide";

const RECIPE = `# For somebody

## An errand

### In the console

1. Press *it*.

### On the command line

\`\`\`sh approver
jamb set-up --name "A & <b>"
\`\`\`

Afterwards.
`;

describe("the guide", () => {
  test.each([
    ["registrar.md", "/help/registrar"],
    ["index.md", "/help"],
    ["approver.md#bound-a-powerful-permission", "/help/approver#bound-a-powerful-permission"],
    ["#here", "/help/somebody#here"],
    ["../operations.md#keys", "/help/operations#keys"],
    ["https://alder.example/x", "https://alder.example/x"],
    ["../decisions/0001-a.md", null],
    ["../packaging/nginx.conf", null],
    ["/openapi.json", "/openapi.json"],
    ["javascript:alert(1)", null],
  ])("leads %s to %s", (href, to) => {
    expect(addressOf(href, "somebody")).toBe(to);
  });

  test("names headings as readers of the files have them", () => {
    expect(idOf("Many permissions for a vendor's product")).toBe("many-permissions-for-a-vendors-product");
  });

  test("sets a recipe's two ways side by side, and what follows below", () => {
    const { title, html, sections } = guidePage(RECIPE, "somebody");
    document.body.innerHTML = html;
    expect(title).toBe("For somebody");
    expect(document.querySelectorAll(".both > section")).toHaveLength(2);
    expect(document.querySelector(".both")?.textContent).not.toContain("Afterwards");
    expect(document.querySelector(".who")?.textContent).toBe("As approver:");
    expect(document.querySelector("pre")?.textContent).toBe('jamb set-up --name "A & <b>"');
    expect(sections.map(({ id }) => id)).toEqual(["", "an-errand"]);
    expect(sections[1]?.text).toContain("Afterwards");
  });

  test("takes no HTML of the file's", () => {
    expect(guidePage("# A\n\n<script>alert(1)</script>\n\n[x](javascript:alert(1))", "a").html).not.toMatch(/<script|href="javascript/);
  });
});

describe("the page of the API", () => {
  const NAME = { type: "string", maxLength: 80, description: "A name | no other has" };
  const page = apiPage({
    info: { title: "Jamb", version: "1" },
    components: {
      schemas: {
        New: { properties: { name: NAME, kind: { enum: ["a", "b"], default: "a" } }, required: ["name"] },
        Made: { properties: { id: NAME } },
      },
    },
    paths: {
      "/api/v1/directories/{directory}/things/{thing}": {
        post: {
          tags: ["things"],
          description: "Make a <thing>.",
          parameters: [
            { name: "directory", in: "path", required: true },
            { name: "thing", in: "path", required: true, schema: { type: "string", format: "uuid" } },
          ],
          requestBody: { content: { "application/json": { schema: { $ref: "#/components/schemas/New" } } } },
          responses: {
            "201": { content: { "application/json": { schema: { type: "array", items: { $ref: "#/components/schemas/Made" } } } } },
            "422": { description: "no" },
          },
        },
      },
    },
  });

  test("says what is sent, what is needed, and what comes back", () => {
    document.body.innerHTML = guidePage(page, "api", false).html;
    expect(document.getElementById("things")?.tagName).toBe("H2");
    const text = document.body.textContent ?? "";
    expect(text).toContain("POST …/things/{thing}");
    expect(text).toContain("Make a ‹thing›.");
    expect(text).toMatch(/thing \(path\)\s+string \(uuid\), needed/);
    expect(text).not.toContain("directory (path)");
    expect(text).toMatch(/name\s+string, needed\s+A name \| no other has; at most 80 characters/);
    expect(text).toMatch(/kind\s+a, b\s+otherwise a/);
    expect(text).toContain("Answer 201: list of Made");
  });
});
