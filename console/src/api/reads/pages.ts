// A list that is read a page at a time, each after the one before: what is shown is all that was read so far.
import { keepPreviousData, useInfiniteQuery } from "@tanstack/vue-query";
import { computed } from "vue";

interface Page<T> {
  items: T[];
  next?: string | null;
  total?: number | null;
}

/** `read`: returns the page after a cursor, the first one without. */
export function usePages<T>(queryKey: unknown[], read: (cursor: string | undefined) => Promise<Page<T>>, enabled = () => true) {
  const found = useInfiniteQuery({
    queryKey,
    enabled,
    initialPageParam: "",
    queryFn: ({ pageParam }) => read(pageParam || undefined),
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const items = computed(() => found.data.value?.pages.flatMap((page) => page.items) ?? []);
  // Of all that is found, where the service counts it; as the latest page has it.
  const total = computed(() => found.data.value?.pages.at(-1)?.total ?? null);
  return { ...found, items, total };
}

/** A list that is paged by the service, whole: for what is chosen from, and looked into as one types. */
export async function everyPage<T>(read: (cursor: string | undefined) => Promise<Page<T>>): Promise<T[]> {
  const found: T[] = [];
  let cursor: string | undefined;
  do {
    const page = await read(cursor);
    found.push(...page.items);
    cursor = page.next ?? undefined;
  } while (cursor);
  return found;
}
