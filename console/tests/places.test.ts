import { expect, test } from "vitest";
import { PLACES, placesAt, placesFor, placesNamed } from "@/frame/places";
import { router } from "@/router";

const names = (text: string, may = () => true) => placesNamed(text, may).map((place) => place.name);

test("pages are found by how their words begin, by whoever may see them", () => {
  expect(names("reg")).toEqual(["Register a client"]);
  expect(names("CLI")).toEqual(["Clients", "Register a client", "Removed clients"]);
  expect(names("your sign")).toEqual(["Your sign-in"]);
  expect(names("lients")).toEqual([]);
  expect(names(" ")).toEqual([]);
  expect(placesNamed("cli", (operation) => operation === "clients.list").map((place) => place.name)).toEqual(["Clients"]);
  expect(placesAt(["people", "today"], (operation) => operation === "today.read").map((place) => place.name)).toEqual(["Today"]);
});

test("where nothing is, the pages are offered that the address may have meant", () => {
  const near = (path: string, may = () => true) => placesFor(path, may).map((place) => place.name);
  expect(near("/audit/excesses/of/clients")).toEqual(["Clients", "Audit", "Removed clients"]);
  expect(near("/today")).toEqual(["Today"]);
  expect(near("/audit/findings")).toEqual(["Audit"]);
  expect(near("/consents/%ZZ")).toEqual(["Every consent"]);
  expect(near("/wp/a")).toEqual(["Today", "Clients", "Your applications"]);
  expect(near("/audit/findings", () => false)).toEqual(["Your applications"]);
});

test("every page that is named is there", () => {
  expect(PLACES.filter((place) => !router.hasRoute(place.page))).toEqual([]);
});
