int fit(void);
