// Sheets for printing have no keys of their own: only what is wide is reached by them, while it is looked at on a small screen.
import { startScrolling } from "./scrolling.js";

startScrolling();
