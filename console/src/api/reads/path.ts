// What the addresses of the reads have in common.
import { directory } from "@/api/session";

/** The part of every address that names the directory. */
export const path = () => ({ directory: directory.value });

/** The cursor of the page after this one, if there is one. */
export const following = (page: { next?: string | null }) => page.next ?? undefined;

/** What asks for the page at a cursor. */
export const after = (cursor: string | undefined) => (cursor ? { cursor } : {});
