// A sentence of a page with more than words in its places: a link, a moment, a name that stands out. Pages are built so
// that it stands wherever text and elements stand together; each place is a slot: p0, p1, ...
import type { FunctionalComponent } from "vue";
import { partsOfSentence } from "./sentences";

const Sentence: FunctionalComponent<{ of: string }> = ({ of }, { slots }) =>
  partsOfSentence(of).map((part, number) => (number % 2 ? slots[`p${part}`]?.() : part));
Sentence.props = ["of"];

export default Sentence;
