// The terminal makes style elements and style attributes, which the page's policy forbids. The same rules through the
// document's own objects are allowed. Imported before the terminal.
class Rules extends HTMLElement {
  #sheet = new CSSStyleSheet();
  set textContent(text) { this.#sheet.replaceSync(text); }
  connectedCallback() { this.hidden = true; document.adoptedStyleSheets = [...document.adoptedStyleSheets, this.#sheet]; }
  disconnectedCallback() { document.adoptedStyleSheets = document.adoptedStyleSheets.filter((s) => s !== this.#sheet); }
}
customElements.define('z-rules', Rules);
const create = document.createElement.bind(document);
function setAttribute(name, value) {
  if (name === 'style') this.style.cssText = value; else Element.prototype.setAttribute.call(this, name, value);
}
document.createElement = (name, options) => {
  const made = create(name === 'style' ? 'z-rules' : name, options);
  if (name === 'span') made.setAttribute = setAttribute;
  return made;
};
