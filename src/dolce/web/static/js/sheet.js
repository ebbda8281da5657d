// A sheet of paper: its plots, drawn once.
import { drawWaitingPlots } from "./plot/response_plot.js";
drawWaitingPlots();
