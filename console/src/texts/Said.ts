// A text with more than words in its places: a link, a moment, a name that stands out. Each place is a slot of its name.
import { type FunctionalComponent, h } from "vue";
import { partsOf } from ".";

const Said: FunctionalComponent<{ text: string; tag?: string }> = ({ text, tag }, { slots }) =>
  h(
    tag ?? "span",
    partsOf(text).map((part, place) => (place % 2 ? slots[part]?.() : part)),
  );
Said.props = ["text", "tag"];

export default Said;
